<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'

  const rules = createQuery(() => ({
    queryKey: ['round-rules'],
    queryFn: () => ok(api.GET('/api/rounds/permissions')),
  }))
  const acts = acting('round')
  let confirming = $state('')
  let typed = $state('')

  const permit = (environment: string, permitted: boolean) =>
    acts
      .run(() =>
        ok(
          api.PUT('/api/rounds/permissions/{environment}', {
            params: { path: { environment } },
            body: { permitted },
          }),
        ),
      )
      .then(() => (confirming = ''))
  function press(environment: string, production: boolean, permitted: boolean): void {
    typed = ''
    if (production && permitted) confirming = environment
    else void permit(environment, permitted)
  }
</script>

<section class="sheet mt-4 p-4" aria-labelledby="permissions-title">
  <h2 id="permissions-title">What rounds may do</h2>
  <p class="help">
    A round signs in and makes the harmless call. It does real work only where both the environment
    and the connection permit it, and nothing in a person's name.
  </p>
  {#each rules.data?.environments ?? [] as { environment, permitted } (environment.key)}
    <div class="flex min-h-[30px] items-center gap-4" data-permission={environment.key}>
      <span class="w-24"><EnvBadge {environment} /></span>
      <span
        >{permitted
          ? 'real work, where the connection permits it too'
          : 'the harmless call only'}</span
      >
      {#if may('change')}<button
          class="act ms-auto"
          disabled={acts.busy}
          aria-label="{permitted ? 'Forbid' : 'Permit'} real work in {environment.name}"
          onclick={() => press(environment.key, environment.production, !permitted)}
          >{permitted ? 'Forbid' : 'Permit'}</button
        >{/if}
    </div>
    {#if confirming === environment.key}
      <form
        class="bg-bad-ground mt-1 mb-2 flex flex-wrap items-end gap-3 rounded-md px-3 py-2"
        onsubmit={(event) => (event.preventDefault(), void permit(environment.key, true))}
      >
        <label
          ><span class="label-text"
            >Rounds will make things in {environment.name} and clear them away. To go on, type
            {environment.name}</span
          ><input class="line-in" bind:value={typed} /></label
        >
        <button class="btn btn-sm" disabled={acts.busy || typed !== environment.name}
          >Permit real work</button
        >
        <button type="button" class="btn btn-sm" onclick={() => (confirming = '')}>Cancel</button>
      </form>
    {/if}
  {/each}
  {#if !may('change')}<p class="help">Administrators change this.</p>{/if}
  <ProblemBox problem={acts.problem} />
</section>
