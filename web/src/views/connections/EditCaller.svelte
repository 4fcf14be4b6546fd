<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { untrack } from 'svelte'
  import { api, ifMatch, ok, type Connection } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import ScopeEffects from '../../lib/ScopeEffects.svelte'
  import ValueFields from './ValueFields.svelte'

  let {
    connection,
    done,
  }: { connection: Connection; done: (notes: Record<string, string[]>) => void } = $props()
  const acts = acting('connection')
  // A copy to type in: what somebody else saves meanwhile must not change it under one's hands.
  const start = untrack(() => connection)
  let values = $state({ ...start.values })
  let scopes = $state([...start.scopes])
  let pace = $state(start.pace)
  let limit = $state(start.time_limit)
  let paused = $state(start.paused)
  let test_interval = $state(start.test_interval)
  let work_in_rounds = $state(start.work_in_rounds)
  const errors = $derived(acts.errors)
  const application = createQuery(() => ({
    queryKey: ['application', connection.application],
    queryFn: () =>
      ok(api.GET('/api/applications/{key}', { params: { path: { key: connection.application } } })),
  }))

  const whoStops = (left: string[]) =>
    ok(
      api.POST('/api/connections/{ref}/scopes/previews', {
        params: { path: { ref: start.ref } },
        body: { scopes: left },
      }),
    )
  async function save(event: Event): Promise<void> {
    event.preventDefault()
    const body = { values, scopes, pace, time_limit: limit, paused, test_interval, work_in_rounds }
    const params = { path: { ref: start.ref } }
    const saved = await acts.run(
      () =>
        ok(api.PATCH('/api/connections/{ref}', { params, body, headers: ifMatch(start.version) })),
      ['connection', start.ref],
    )
    if (saved) done(saved.notes ?? {})
  }
  const users = $derived(start.workloads_of.map((workload) => workload.name))
  const use = $derived(users.length === 1 ? 'uses' : 'use')
</script>

<form class="sheet mb-4 p-4" onsubmit={save} aria-labelledby="edit-title">
  <h2 id="edit-title" class="text-slate mb-2">
    Caller side <span class="help font-normal">what we send</span>
  </h2>
  <div class="grid grid-cols-2 gap-x-5">
    <ValueFields scheme={start.scheme} bind:values {errors} />
  </div>
  <fieldset class="mb-3">
    <legend class="label-text">Scopes we ask for</legend>
    <div class="flex flex-wrap gap-x-6">
      {#each application.data?.scopes ?? [] as scope (scope.name)}
        <label class="flex min-h-[26px] items-center gap-2"
          ><input type="checkbox" value={scope.name} bind:group={scopes} />
          <span class="value">{scope.name}</span></label
        >
      {/each}
    </div>
    <ScopeEffects {scopes} ask={whoStops} named={false} />
  </fieldset>
  <div class="mb-3 flex flex-wrap items-end gap-5">
    <label
      ><span class="label-text">Most calls a second</span><input
        type="number"
        step="any"
        min="0.01"
        class="line-in w-36"
        bind:value={pace}
      />{#if errors.pace}<span role="alert" class="text-error">{errors.pace}</span>{/if}</label
    >
    <label
      ><span class="label-text">Time limit of a call, s</span><input
        type="number"
        step="any"
        min="1"
        max="120"
        class="line-in w-36"
        bind:value={limit}
      />{#if errors.time_limit}<span role="alert" class="text-error">{errors.time_limit}</span
        >{/if}</label
    >
    <label
      ><span class="label-text">Test interval, minutes</span><input
        type="number"
        step="1"
        min="0"
        max="10080"
        class="line-in w-36"
        bind:value={test_interval}
      /><span class="help">0: in every round</span>{#if errors.test_interval}<span
          role="alert"
          class="text-error">{errors.test_interval}</span
        >{/if}</label
    >
    <label class="flex min-h-[34px] items-center gap-2"
      ><input type="checkbox" bind:checked={paused} /> Leave it out of the rounds</label
    >
    <label class="flex min-h-[34px] items-center gap-2"
      ><input type="checkbox" bind:checked={work_in_rounds} /> Permit rounds real work here</label
    >
  </div>
  {#if users.length && start.state === 'latched'}
    <p class="bg-wait-ground mb-3 rounded-md px-3 py-2">
      It works now, and {users.join(', ')}
      {use} it. A change of issuer, token endpoint or client ID drops its tokens.
    </p>
  {/if}
  <ProblemBox problem={acts.problem} />
  <div class="mt-2 flex flex-wrap items-end gap-3">
    <button class="btn btn-primary btn-sm">Save</button>
    <button type="button" class="btn btn-sm" onclick={() => done({})}>Cancel</button>
  </div>
</form>
