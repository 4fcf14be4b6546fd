<script lang="ts">
  /** What a person's rights hold for: everything, or some environments, applications and teams. */
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may, session } from '../../lib/session.svelte'

  let { username, limits }: { username: string; limits: Schemas['LimitsOut'] } = $props()
  const acts = acting('person')
  let editing = $state(false)
  let form = $state({ environments: [] as string[], applications: '', teams: '' })
  const environments = createQuery(() => ({
    queryKey: ['environments'],
    queryFn: () => ok(api.GET('/api/environments')),
  }))
  const named = (key: string) =>
    environments.data?.find((environment) => environment.key === key)?.name ?? key
  const everything = $derived(
    !limits.environments.length && !limits.applications.length && !limits.teams.length,
  )
  function lines(text: string): string[] {
    return text
      .split('\n')
      .map((line) => line.trim())
      .filter(Boolean)
  }
  function edit(): void {
    form = {
      environments: [...limits.environments],
      applications: limits.applications.join('\n'),
      teams: limits.teams.join('\n'),
    }
    editing = true
  }
  async function save(event: Event): Promise<void> {
    event.preventDefault()
    const body = {
      environments: form.environments,
      applications: lines(form.applications),
      teams: lines(form.teams),
    }
    const saved = await acts.run(() =>
      ok(api.PUT('/api/people/{username}/limits', { params: { path: { username } }, body })),
    )
    if (saved) editing = false
  }
</script>

<section class="sheet p-4" aria-labelledby="limits-title">
  <header class="flex items-baseline">
    <h2 id="limits-title">Rights hold for</h2>
    {#if may('change') && username !== session.who?.username}<button
        class="act ms-auto"
        onclick={() => (editing ? (editing = false) : edit())}
        >{editing ? 'Cancel' : 'Limit rights'}</button
      >{/if}
  </header>
  {#if editing}
    <form class="mt-1 flex flex-col gap-2" onsubmit={save}>
      <fieldset>
        <legend class="label-text">Environments</legend>
        {#each environments.data ?? [] as environment (environment.key)}
          <label class="me-4"
            ><input type="checkbox" value={environment.key} bind:group={form.environments} />
            {environment.name}</label
          >
        {/each}
        {#if acts.errors.environments}<p class="text-error">{acts.errors.environments}</p>{/if}
      </fieldset>
      <label
        ><span class="label-text">Applications <span class="help">a key on each line</span></span
        ><textarea class="line-in value h-16" bind:value={form.applications}></textarea></label
      >
      {#if acts.errors.applications}<p class="text-error">{acts.errors.applications}</p>{/if}
      <label
        ><span class="label-text"
          >Applications owned by these teams <span class="help">a name on each line</span></span
        ><textarea class="line-in h-16" bind:value={form.teams}></textarea></label
      >
      {#if acts.errors.teams}<p class="text-error">{acts.errors.teams}</p>{/if}
      <p class="help">
        They look at everything that their role shows, and act only on what is within. Nothing
        chosen: everything.
      </p>
      <p><button class="btn btn-primary btn-sm" disabled={acts.busy}>Save limits</button></p>
    </form>
  {:else if everything}<p>Everything that their role allows.</p>
  {:else}
    {#if limits.environments.length}<p>{limits.environments.map(named).join(', ')}</p>{/if}
    {#if limits.applications.length}<p class="value">{limits.applications.join(', ')}</p>{/if}
    {#if limits.teams.length}<p>applications of {limits.teams.join(', ')}</p>{/if}
    <p class="help">They look at everything else, and cannot change it.</p>
  {/if}
  <ProblemBox problem={acts.problem} />
</section>
