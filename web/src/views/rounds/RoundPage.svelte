<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query'
  import { api, ok, type Round } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import { clock } from '../../lib/clock.svelte'
  import { follow } from '../../lib/live'
  import Loading from '../../lib/Loading.svelte'
  import { paged } from '../../lib/paged.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { grouped } from '../../lib/words'
  import { param } from '../../router'

  const number = $derived(Number(param('number')))
  const queries = useQueryClient()
  const found = createQuery(() => ({
    queryKey: ['round', number],
    queryFn: () => ok(api.GET('/api/rounds/{number}', { params: { path: { number } } })),
  }))
  let problem = $state<unknown>(null)
  const acts = acting('round')
  const running = $derived(found.data ? !found.data.ended : false)
  const SHOWN = [
    ['', 'all'],
    ['state:failed', 'failed'],
    ['state:running', 'running'],
    ['state:waiting', 'waiting'],
    ['state:passed', 'passed'],
  ] as const
  let words = $state('')
  const tests = paged(
    () => ['round-tests', number, words],
    (cursor) =>
      ok(
        api.GET('/api/rounds/{number}/tests', {
          params: { path: { number }, query: { words, cursor } },
        }),
      ),
  )
  /** Nobody has taken up a single test for a while: the worker is most likely not running. */
  const nobody = $derived(
    running &&
      found.data !== undefined &&
      found.data.done === 0 &&
      !words &&
      tests.rows.length > 0 &&
      tests.rows.every((test) => test.state === 'waiting') &&
      clock.now - new Date(found.data.begun).getTime() > 20_000,
  )
  /** What is shown is read anew as the round goes on, at most every second. */
  let due = 0
  function goesOn(): void {
    if (due) return
    due = window.setTimeout(() => {
      due = 0
      void queries.invalidateQueries({ queryKey: ['round-tests', number] })
    }, 1000)
  }
  $effect(() => () => clearTimeout(due))

  $effect(() => {
    if (!running) return
    return follow<Round>(
      `/api/rounds/${number}/events`,
      () => ok(api.GET('/api/rounds/{number}', { params: { path: { number } } })),
      (seen) => {
        queries.setQueryData(['round', number], seen)
        goesOn()
      },
      (seen) => seen.ended !== null,
      (error) => (problem = error),
    )
  })
  async function stop(): Promise<void> {
    await acts.run(
      () => ok(api.POST('/api/rounds/{number}/stops', { params: { path: { number } } })),
      ['round', number],
    )
    problem = acts.problem
  }
  function progressOf(round: Round): string {
    const tested = `${grouped(round.done)} of ${grouped(round.total)} tested`
    const stopping = running ? ', stopping' : ', stopped'
    const became = round.stopped ? stopping : running ? '' : '. It has ended'
    return `${tested}, ${grouped(round.failed)} failed${became}.`
  }
</script>

<svelte:head><title>Round {number} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  {@const round = found.data}
  <header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
    <h1>Round {round.number}</h1>
    <span class="help"><When at={round.begun} prefix="begun " /> by {round.begun_by}</span>
    {#if running && may('test')}<button
        class="btn btn-sm ms-auto"
        onclick={stop}
        disabled={round.stopped}>{round.stopped ? 'Stopping …' : 'Stop the round'}</button
      >{/if}
  </header>
  <div class="mb-3" role="status">
    <progress
      class="progress progress-primary w-full"
      aria-label="Tests of this round that are done"
      value={round.done}
      max={Math.max(1, round.total)}
    ></progress>
    <p>
      {progressOf(round)}
    </p>
  </div>
  {#if nobody}
    <p role="alert" class="bg-bad-ground mb-3 rounded-md px-3 py-2">
      No worker has taken this round up. Look whether the worker runs; the round goes on as soon as
      it does.
    </p>
  {/if}
  <ProblemBox {problem} />
  <div class="mb-2 flex flex-wrap items-center gap-3">
    <input
      class="line-in max-w-xs"
      type="search"
      aria-label="Filter"
      placeholder="words, or state:failed"
      bind:value={words}
    />
    {#each SHOWN as [wanted, name] (name)}<button
        class="act {words === wanted ? 'font-bold' : ''}"
        aria-pressed={words === wanted}
        onclick={() => (words = wanted)}
        >{name}{wanted === 'state:failed' ? ` (${grouped(round.failed)})` : ''}</button
      >{/each}
  </div>
  <Loading query={tests.query} />
  {#if tests.rows.length}
    <div class="sheet overflow-x-auto">
      <table class="rows">
        <thead><tr><th>Connection</th><th>Result</th><th>Where it stopped</th></tr></thead>
        <tbody>
          {#each tests.rows as test (test.test)}
            <tr data-row>
              <td
                ><a class="act value" href="/connections/{test.connection}">{test.connection}</a
                ></td
              >
              <td
                class={test.passed === false
                  ? 'text-error font-semibold'
                  : test.passed
                    ? 'text-success font-semibold'
                    : 'text-soft'}
                >{test.passed === false
                  ? '✕ failed'
                  : test.passed
                    ? '✓ passed'
                    : test.state === 'waiting'
                      ? 'waits for its turn'
                      : test.state}</td
              >
              <td
                >{#if test.says}<a class="hover:underline" href="/tests/{test.test}">{test.says}</a
                  >{/if}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if tests.query.hasNextPage}<button
        class="btn btn-sm mt-3"
        onclick={() => tests.query.fetchNextPage()}>Show more</button
      >{/if}
  {:else if tests.query.data}<p class="sheet p-4">
      {words ? `None of its tests fits “${words}”.` : 'It has no tests.'}
    </p>{/if}
{/if}
