<script lang="ts">
  import { untrack } from 'svelte'
  import { api, ifMatch, ok, Problem, type Connection } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import EndOf from '../../lib/EndOf.svelte'
  import When from '../../lib/When.svelte'
  import Field from '../../lib/Field.svelte'
  import Intake from '../../lib/Intake.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import PutCertificate from './PutCertificate.svelte'
  import PutSecret from './PutSecret.svelte'
  import ValueFields from './ValueFields.svelte'

  let {
    connection,
    done,
  }: { connection: Connection; done: (notes: Record<string, string[]>) => void } = $props()
  const acts = acting('connection')
  // A copy to type in. When something else (an intake, a secret) has saved a newer version, all but
  // what was typed is taken anew.
  let begun = untrack(() => connection)
  let version = $state(untrack(() => connection.version))
  let values = $state(untrack(() => ({ ...connection.values })))
  let slots = $state<Record<string, string>>(untrack(() => ({ ...connection.slots })))
  let which = $state('')
  let certificate = $state(false)
  let saved = $state(false)
  const errors = $derived(acts.errors)
  const scheme = $derived({
    ...connection.scheme,
    values: connection.scheme.values.filter((value) => value.type !== 'certificate'),
  })
  const wantsCertificate = $derived(
    connection.scheme.values.some((value) => value.type === 'certificate'),
  )
  function takeAnew(now: Connection): void {
    begun = now
    version = now.version
    values = { ...now.values }
    slots = { ...now.slots }
  }
  const typed = <T,>(mine: Record<string, T>, before: Record<string, T>) =>
    Object.entries(mine).filter(([key, value]) => value !== before[key])
  const differs = (
    mine: [string, string][],
    before: Record<string, string>,
    now: Record<string, string>,
  ) => mine.some(([key, value]) => ![before[key], value].includes(now[key]))
  // Where somebody else has changed what is being typed, the version stays: saving is refused, and
  // says what they changed. Who was told saves knowingly.
  let told = $state(false)
  $effect(() => {
    if (connection.version === version) return
    const mine = untrack(() => ({
      values: typed(values, begun.values),
      slots: typed(slots, begun.slots),
    }))
    const both =
      differs(mine.values, begun.values, connection.values) ||
      differs(mine.slots, begun.slots, connection.slots)
    if (both && !told) return
    told = false
    takeAnew(connection)
    values = { ...connection.values, ...Object.fromEntries(mine.values) }
    slots = { ...connection.slots, ...Object.fromEntries(mine.slots) }
  })

  async function save(event: Event): Promise<void> {
    event.preventDefault()
    saved = false
    const answer = await acts.run(async () => {
      const params = { path: { ref: connection.ref } }
      try {
        const found = await ok(
          api.PATCH('/api/connections/{ref}', {
            params,
            body: { values, slots },
            headers: ifMatch(version),
          }),
        )
        takeAnew(found)
        return found
      } catch (error) {
        told = error instanceof Problem && error.status === 412
        throw error
      }
    }, ['connection', connection.ref])
    if (!answer) return
    done(answer.notes ?? {})
    saved = true
  }
  function close(notes: Record<string, string[]>): void {
    which = ''
    certificate = false
    done(notes)
  }
</script>

<form onsubmit={save}>
  {#each connection.slot_values as slotValue (slotValue.key)}
    <Field
      id="slot-{slotValue.key}"
      label={slotValue.label}
      help={slotValue.help}
      where={slotValue.where}
      error={errors[`slot.${slotValue.key}`]}
    >
      <input
        id="slot-{slotValue.key}"
        class="line-in value max-w-sm"
        autocomplete="off"
        bind:value={slots[slotValue.key]}
      />
    </Field>
  {/each}
  <div class="grid sm:grid-cols-2 gap-x-5"><ValueFields {scheme} bind:values {errors} /></div>
  <ProblemBox problem={acts.problem} />
  {#if may('change')}<button class="btn btn-primary btn-sm">Save our side</button>{/if}
  {#if saved}<span role="status" class="text-success ms-2">Saved.</span>{/if}
</form>
<div class="mt-4 grid sm:grid-cols-2 items-start gap-4">
  <div>
    {#each connection.secrets.filter((secret) => secret.type !== 'key') as secret (secret.key)}
      <p class="flex min-h-[30px] flex-wrap items-baseline gap-x-3">
        <span class="text-soft w-36">{secret.label}</span>
        <span class="value whitespace-nowrap">{secret.hint ? `•••• ${secret.hint}` : '—'}</span>
        {#if secret.hint}<span class="help"
            >{#if secret.ends}<When at={secret.ends} prefix="expires " />
            {:else}no expiry date known{/if}</span
          >{/if}
        {#if secret.credential}<EndOf
            id={secret.credential}
            ends={secret.ends}
            hint={secret.hint}
          />{/if}
        {#if may('change')}<button
            class="act"
            onclick={() => (which = which === secret.key ? '' : secret.key)}
            >{secret.hint ? 'Replace' : 'Enter'}</button
          >{/if}
      </p>
    {/each}
    {#if wantsCertificate}
      <p class="flex min-h-[30px] flex-wrap items-baseline gap-x-3">
        <span class="text-soft w-36">Certificate</span>
        <span class="value">{connection.certificate?.subject ?? '—'}</span>
        {#if may('change')}<button class="act" onclick={() => (certificate = !certificate)}
            >{connection.certificate ? 'Replace' : 'Enter'}</button
          >{/if}
      </p>
      {#if connection.certificate}<p class="help">
          {connection.certificate.says} SHA-256
          <span class="value">{connection.certificate.sha256}</span>
        </p>{/if}
    {/if}
  </div>
  {#if may('change')}<Intake connection={connection.ref} taken={done} />{/if}
</div>
{#if which}<div class="mt-3">
    {#key which}<PutSecret {connection} {which} done={close} />{/key}
  </div>{/if}
{#if certificate}<div class="mt-3"><PutCertificate {connection} done={close} /></div>{/if}
