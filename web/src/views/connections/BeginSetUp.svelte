<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, once } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ApplicationField from '../../lib/ApplicationField.svelte'
  import Field from '../../lib/Field.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { goto, route } from '../../router'

  const search = route.search as Record<string, unknown>
  const acts = acting('connection')
  const sent = once()
  let application = $state(String(search.application ?? ''))
  let environment = $state(String(search.environment ?? ''))
  let scheme = $state('')
  const errors = $derived(acts.errors)
  const found = createQuery(() => ({
    queryKey: ['application', application],
    queryFn: () =>
      ok(api.GET('/api/applications/{key}', { params: { path: { key: application } } })),
    enabled: Boolean(application),
  }))
  $effect(() => {
    if (
      found.data &&
      !found.data.deployments.some((deployment) => deployment.environment.key === environment)
    )
      environment = found.data.deployments[0]?.environment.key ?? ''
    if (found.data && !found.data.schemes.some((choice) => choice.key === scheme))
      scheme = found.data.schemes[0]?.key ?? ''
  })
  const chosen = $derived(found.data?.schemes.find((choice) => choice.key === scheme))

  async function begin(event: Event): Promise<void> {
    event.preventDefault()
    const body = { application, environment, scheme, name: '' }
    const made = await acts.run(() =>
      ok(api.POST('/api/set-ups', { body, headers: sent.headers(body) })),
    )
    if (made) goto(`/connections/${made.ref}/set-up`)
  }
</script>

<form onsubmit={begin} class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_356px] gap-5">
  <div class="sheet p-5">
    <div class="grid sm:grid-cols-2 gap-x-5">
      <Field id="application" label="Application">
        <ApplicationField id="application" bind:value={application} />
      </Field>
      <Field id="environment" label="Environment">
        <select id="environment" class="line-in" bind:value={environment}>
          {#each found.data?.deployments ?? [] as deployment (deployment.environment.key)}<option
              value={deployment.environment.key}>{deployment.environment.name}</option
            >{/each}
        </select>
      </Field>
    </div>
    {#if found.data}
      <fieldset class="mb-3">
        <legend class="label-text">Authentication scheme</legend>
        {#each found.data.schemes as choice (choice.key)}
          <label class="flex min-h-[26px] items-center gap-2"
            ><input type="radio" name="scheme" value={choice.key} bind:group={scheme} />
            {choice.label}</label
          >
        {/each}
        {#if errors.scheme}<p role="alert" class="text-error font-semibold">{errors.scheme}</p>{/if}
      </fieldset>
    {/if}
    <ProblemBox problem={acts.problem} />
    <div class="flex gap-3">
      <button class="btn btn-primary" disabled={!application || !scheme}>Start set-up</button>
      <a class="btn" href="/connections">Cancel</a>
    </div>
  </div>
  <aside class="sheet h-fit p-4">
    <h2 class="mb-1">What you will need</h2>
    {#if chosen}
      <ul class="list-disc ps-5">
        {#each chosen.values as value (value.key)}<li>
            {value.label}{value.required ? '' : ', if there is one'}{#if value.secret}&nbsp;<span
                class="text-soft">· secret</span
              >{/if}
          </li>{/each}
      </ul>
      {#each chosen.switches as choice (choice)}<p class="text-warning mt-2">
          Firm-wide there: “{choice}” must be on.
        </p>{/each}
    {:else}<p class="help">
        Choose the application; then what it requires of a caller is shown here.
      </p>{/if}
    <p class="help mt-2">
      One page leads on in the order of the work. You can leave and come back; nothing is lost.
    </p>
  </aside>
</form>
