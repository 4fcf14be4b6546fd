<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query'
  import { untrack } from 'svelte'
  import { api, ok, type Cause, type Connection, type Test } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Copy from '../../lib/Copy.svelte'
  import Ladder from '../../lib/Ladder.svelte'
  import { follow } from '../../lib/live'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { ended, RUNGS, rungName, intervalName } from '../../lib/words'

  let { connection, watching }: { connection: Connection; watching: string | null } = $props()
  const queries = useQueryClient()
  const acts = acting('round')
  let live = $state<Test | null>(null)
  let problem = $state<unknown>(null)
  const last = createQuery(() => ({
    queryKey: ['test', connection.last_test],
    queryFn: () =>
      ok(
        api.GET('/api/tests/{identity}', { params: { path: { identity: connection.last_test! } } }),
      ),
    enabled: Boolean(connection.last_test),
    refetchInterval: (query) => (query.state.data && !ended(query.state.data) ? 2000 : false),
  }))
  const test = $derived(live ?? last.data ?? null)
  /** It was to stop before the last rung, and says nothing of what comes after. */
  const partial = $derived(Boolean(test && ended(test) && test.rungs.length < RUNGS.length))
  const causes = $derived(
    ((test?.diagnosis as { causes?: Cause[] } | null)?.causes ?? []) as Cause[],
  )
  const failed = $derived(
    (test?.rungs as { rung: string; passed: boolean; tries: number }[] | undefined)?.find(
      (rung) => !rung.passed,
    ),
  )

  $effect(() => {
    const id = watching
    if (!id) return
    untrack(() => (live = null))
    return follow<Test>(
      `/api/tests/${id}/events`,
      () => ok(api.GET('/api/tests/{identity}', { params: { path: { identity: id } } })),
      (seen) => (live = seen),
      (seen) => {
        if (ended(seen)) {
          // An answer that is still on its way was given before the end, and must not come after
          // it.
          void queries
            .cancelQueries({ queryKey: ['test', seen.id] })
            .then(() => queries.setQueryData(['test', seen.id], seen))
          void acts.read()
        }
        return ended(seen)
      },
      (error) => (problem = error),
    )
  })
  $effect(() => {
    // A newer test than the one watched, say of a round, takes its place.
    if (live && ended(live) && connection.last_test && connection.last_test !== live.id) live = null
  })
  async function stop(): Promise<void> {
    await acts.run(() =>
      ok(api.POST('/api/tests/{identity}/stops', { params: { path: { identity: test!.id } } })),
    )
    problem = acts.problem
  }
</script>

<section class="sheet p-4" aria-labelledby="test-title">
  <header class="mb-1 flex items-baseline">
    <h2 id="test-title">Last test</h2>
    <span class="help ms-auto">
      {#if test && !ended(test)}{test.state === 'waiting' ? 'waits for its turn' : 'running'}
        {#if may('test')}<button class="act ms-2" onclick={stop}>Stop</button>{/if}
      {:else if test}<When at={test.ended ?? test.begun} past />{test.state === 'stopped'
          ? ' · stopped'
          : test.state === 'cut'
            ? ' · cut off'
            : ''}{:else}never tested{/if}
    </span>
  </header>
  <Ladder {test} />
  <div aria-live="polite">
    {#if test?.passed && partial}<p class="mt-2 font-semibold">
        The credential alone is good. This test did not try the whole ladder.
      </p>
    {:else if test?.passed}<p class="text-success mt-2 font-semibold">
        {test.rungs.some((rung) => rung.skipped)
          ? 'Every rung that was tried passed'
          : 'All rungs passed'}.
      </p>{/if}
    {#if test && ended(test) && connection.state === 'not_proven' && !(test.passed && partial)}
      <p class="bg-quiet-ground mt-2 rounded-md px-3 py-2">
        This was before the last change. Nobody has tried since.
      </p>
    {:else if causes.length && failed}
      <div class="bg-bad-ground mt-2 rounded-md px-3 py-2">
        <p>
          <strong>Stopped at {rungName(failed.rung)}.</strong>
          {causes[0]?.says}
          {causes[0]?.reason}
        </p>
        {#if !causes[0]?.pin}<p>{causes[0]?.mend}</p>{/if}
      </div>
    {/if}
  </div>
  {#if connection.state === 'sticking' && connection.passes}
    {@const wanted = connection.passes_wanted}
    <p class="bg-wait-ground mt-2 rounded-md px-3 py-2">
      It did not work before: {connection.passes} of {wanted} passes in a row that make it latched.
    </p>
  {/if}
  {#if !connection.rounds_try_what_failed}
    <p class="bg-wait-ground mt-2 rounded-md px-3 py-2">
      Rounds do not try what failed last. Test it yourself.
    </p>
  {/if}
  <p class="help mt-2">
    {connection.tests_do}
    {#if connection.test_interval && !connection.paused}Scheduled rounds test it {intervalName(
        connection.test_interval,
      )}.{/if}
  </p>
  <ProblemBox {problem} />
  {#if test && ended(test)}
    <p class="mt-2 flex flex-wrap items-center gap-3">
      <a class="act" href="/tests/{test.id}">See what was sent</a>
      {#if connection.curl}<Copy
          text={connection.curl}
          label="Copy as curl"
          what="the harmless call, with the token as a variable"
        />{/if}
    </p>
  {/if}
</section>
