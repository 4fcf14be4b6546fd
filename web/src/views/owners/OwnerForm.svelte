<script lang="ts">
  import { untrack } from 'svelte'
  import { api, ifMatch, ok, once, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import OwnerField from '../../lib/OwnerField.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'

  /** How an owner is reached; without one, a new contact. */
  let {
    owner = null,
    done,
  }: { owner?: Schemas['OwnerOut'] | null; done: (saved: Schemas['OwnerFull'] | null) => void } =
    $props()
  const acts = acting('owner')
  const sent = once()
  let form = $state(
    untrack(() => ({
      name: owner?.name ?? '',
      mail: owner?.mail ?? '',
      zone: owner?.zone ?? '',
      deputy: owner?.deputy ?? '',
    })),
  )
  const zones = Intl.supportedValuesOf('timeZone')

  async function save(event: Event): Promise<void> {
    event.preventDefault()
    const known = owner
    const saved = known
      ? await acts.run(
          () =>
            ok(
              api.PATCH('/api/owners/{identity}', {
                params: { path: { identity: known.id } },
                body: { ...form, name: known.kind === 'contact' ? form.name : null },
                headers: ifMatch(known.version),
              }),
            ),
          ['owner', String(known.id)],
        )
      : await acts.run(() =>
          ok(api.POST('/api/owners', { body: form, headers: sent.headers(form) })),
        )
    if (saved) done(saved)
  }
</script>

<form class="sheet mb-4 grid max-w-3xl grid-cols-2 gap-x-5 p-4" onsubmit={save}>
  <Field
    id="o-name"
    label="Name"
    error={acts.errors.name}
    help={owner && owner.kind !== 'contact' ? 'Changed among people and teams.' : ''}
    ><input
      id="o-name"
      class="line-in"
      maxlength="120"
      disabled={Boolean(owner && owner.kind !== 'contact')}
      bind:value={form.name}
    /></Field
  >
  <Field
    id="o-mail"
    label="Mail address"
    error={acts.errors.mail}
    help={owner?.kind === 'person' ? 'A person’s own, changed with the person.' : ''}
    ><input
      id="o-mail"
      class="line-in"
      type="email"
      disabled={owner?.kind === 'person'}
      placeholder="quays@gannet.example"
      bind:value={form.mail}
    /></Field
  >
  <Field
    id="o-zone"
    label="Time zone"
    error={acts.errors.zone}
    help="By its name; their day and working hours go by it."
    ><input
      id="o-zone"
      class="line-in"
      list="o-zones"
      autocomplete="off"
      placeholder="Europe/London"
      bind:value={form.zone}
    />
    <datalist id="o-zones"
      >{#each zones as zone (zone)}<option value={zone}></option>{/each}</datalist
    ></Field
  >
  <Field
    id="o-deputy"
    label="Deputy"
    error={acts.errors.deputy}
    help="Who is asked where they cannot be."
    ><OwnerField id="o-deputy" bind:value={form.deputy} /></Field
  >
  <div class="col-span-2">
    <ProblemBox problem={acts.problem} />
    <div class="mt-2 flex gap-3">
      <button class="btn btn-primary btn-sm" disabled={acts.busy}
        >{owner ? 'Save' : 'Add contact'}</button
      >
      <button type="button" class="btn btn-sm" onclick={() => done(null)}>Cancel</button>
    </div>
  </div>
</form>
