<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ifMatch, ok, type Connection } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import WorkloadsCard from './WorkloadsCard.svelte'

  let { connection }: { connection: Connection } = $props()
  const acts = acting('connection')
  const application = createQuery(() => ({
    queryKey: ['application', connection.application],
    queryFn: () =>
      ok(api.GET('/api/applications/{key}', { params: { path: { key: connection.application } } })),
  }))

  const asksForScopes = $derived(connection.scheme.values.some((value) => value.type === 'scopes'))

  /**
   * What is ticked and not saved yet: ticks that come while another is being saved are saved after
   * it, and none is lost.
   */
  let wanted = $state.raw<string[] | null>(null)
  let saving = false
  const ticked = $derived(wanted ?? connection.scopes)

  async function set(scope: string, on: boolean): Promise<void> {
    wanted = on ? [...ticked, scope] : ticked.filter((entry) => entry !== scope)
    if (saving) return
    saving = true
    let version = connection.version
    const params = { path: { ref: connection.ref } }
    while (wanted) {
      const scopes: string[] = wanted
      const saved = await acts.run(
        () =>
          ok(
            api.PATCH('/api/connections/{ref}', {
              params,
              body: { scopes },
              headers: ifMatch(version),
            }),
          ),
        ['connection', connection.ref],
      )
      if (!saved) await acts.read()
      version = saved?.version ?? version
      if (wanted === scopes || !saved) wanted = null
    }
    saving = false
  }
</script>

<div class="grid sm:grid-cols-2 gap-4">
  <WorkloadsCard {connection} />
  {#if application.data?.scopes.length && asksForScopes}
    <fieldset class="pt-2">
      <legend class="label-text">Scopes we ask for, no more than the work needs</legend>
      {#each application.data.scopes as scope (scope.name)}
        <label class="flex min-h-[26px] items-baseline gap-2">
          <input
            type="checkbox"
            disabled={!may('change')}
            checked={ticked.includes(scope.name)}
            onchange={(event) => set(scope.name, event.currentTarget.checked)}
          />
          <span class="value">{scope.name}</span> <span class="text-soft">{scope.meaning}</span>
          {#if scope.administrator}<span class="text-warning">needs consent</span>{/if}
        </label>
      {/each}
    </fieldset>
  {:else if application.data?.roles.length}
    <div class="pt-2">
      <p class="label-text">What each {application.data.roles_label} allows</p>
      {#each application.data.roles as role (role.name)}<p>
          <span class="value">{role.name}</span> <span class="text-soft">{role.meaning}</span>
        </p>{/each}
    </div>
  {/if}
</div>
<ProblemBox problem={acts.problem} />
