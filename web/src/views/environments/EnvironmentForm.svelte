<script lang="ts">
  /** What is said of an environment: a new one, or one that is there (``start``). */
  import { untrack } from 'svelte'
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Field from '../../lib/Field.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'

  type Look = Schemas['EnvironmentIn']['look']
  let { start, done }: { start?: Schemas['EnvironmentDetail']; done: () => void } = $props()
  const acts = acting('environment')
  const LOOKS: [Look, string][] = [
    ['flat', 'Flat'],
    ['dashed', 'Dashed'],
    ['striped', 'Striped'],
  ]
  let form = $state(
    untrack(() => ({
      key: start?.key ?? '',
      name: start?.name ?? '',
      look: (start?.look ?? 'flat') as Look,
      production: start?.production ?? false,
      wants_service_account: start?.wants_service_account ?? false,
    })),
  )

  async function save(event: Event): Promise<void> {
    event.preventDefault()
    const { key, ...fields } = form
    const saved = await acts.run(() =>
      start
        ? ok(
            api.PATCH('/api/environments/{environment}', {
              params: { path: { environment: start.key } },
              body: fields,
            }),
          )
        : ok(api.POST('/api/environments', { body: { key, ...fields } })),
    )
    if (saved) done()
  }
</script>

<form class={start ? 'mt-3' : 'sheet mb-4 max-w-4xl p-4'} onsubmit={save}>
  {#if !start}<h2 class="mb-2">New environment</h2>{/if}
  <div class="grid grid-cols-1 gap-x-5 sm:grid-cols-2">
    <Field id="environment-name" label="Name" error={acts.errors.name}>
      <input
        id="environment-name"
        class="line-in"
        bind:value={form.name}
        aria-invalid={acts.errors.name ? 'true' : undefined}
        required
      />
    </Field>
    {#if !start}<Field
        id="environment-key"
        label="Key"
        help="References of connections begin with it. It cannot be changed."
        error={acts.errors.key}
      >
        <input
          id="environment-key"
          class="line-in value"
          bind:value={form.key}
          aria-invalid={acts.errors.key ? 'true' : undefined}
          required
        />
      </Field>{/if}
    <Field id="environment-look" label="Look" error={acts.errors.look}>
      <span class="flex items-center gap-3">
        <select id="environment-look" class="line-in" bind:value={form.look}
          >{#each LOOKS as [look, name] (look)}<option value={look}>{name}</option>{/each}</select
        >
        <EnvBadge environment={{ ...form, name: form.name || 'Name' }} />
      </span>
    </Field>
  </div>
  <label class="flex min-h-[34px] items-center gap-2"
    ><input type="checkbox" bind:checked={form.production} /> Production</label
  >
  <label class="flex min-h-[34px] items-center gap-2"
    ><input type="checkbox" bind:checked={form.wants_service_account} />
    <span>A service account is required</span></label
  >
  {#if !Object.keys(acts.errors).length}<ProblemBox problem={acts.problem} />{/if}
  <p class="mt-2 flex gap-3">
    <button class="btn btn-primary btn-sm" disabled={acts.busy}
      >{start ? 'Save changes' : 'Add environment'}</button
    >
    <button type="button" class="btn btn-sm" onclick={done}>Cancel</button>
  </p>
</form>
