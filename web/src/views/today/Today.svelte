<script lang="ts">
  import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Today as TodayOut } from '../../api/client'
  import { clock } from '../../lib/clock.svelte'
  import Loading from '../../lib/Loading.svelte'
  import { exact, fromNow } from '../../lib/time'
  import FirstSteps from './FirstSteps.svelte'
  import Wall from './Wall.svelte'

  // What the page of a connection opens, by the act that mends it.
  const PUT: Record<string, string> = {
    put_secret: '?put=secret',
    put_signing_secret: '?put=signing_secret',
  }

  const today = createQuery(() => ({
    queryKey: ['today'],
    queryFn: () => ok(api.GET('/api/today')),
    refetchInterval: 15_000,
  }))
  // Once somebody wants more than the first page, all that is shown comes from here.
  let further = $state(false)
  const more = createInfiniteQuery(() => ({
    queryKey: ['today', 'breaks'],
    queryFn: ({ pageParam }) =>
      ok(api.GET('/api/today/breaks', { params: { query: { cursor: pageParam || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
    refetchInterval: 15_000,
    enabled: further,
  }))
  const breaks = $derived(
    more.data?.pages.flatMap((entry) => entry.items) ?? today.data?.breaks.items ?? [],
  )
  const hasMore = $derived(more.data ? more.hasNextPage : Boolean(today.data?.breaks.next))
  /** Nothing has worked yet, and there is little that could. */
  const isBeginning = (shown: TodayOut): boolean =>
    !shown.counts.latched && Object.values(shown.counts).reduce((sum, count) => sum + count, 0) <= 3
  async function furtherBreaks(): Promise<void> {
    if (!further) {
      further = true
      await more.refetch()
    }
    await more.fetchNextPage()
  }
  /** The workloads that stop, as the subject of a sentence; the list is cut at 21. */
  const stops = (workloads: string[]) =>
    workloads.length === 1
      ? workloads[0]
      : `${workloads.length > 20 ? 'more than 20' : workloads.length} workloads`
</script>

<svelte:head><title>Today · Neat Latch</title></svelte:head>
<Loading query={today} />
{#if today.data}
  {#if isBeginning(today.data)}<FirstSteps today={today.data} />{/if}
  {#if Object.keys(today.data.applications).length}
    <div class="grid grid-cols-1 lg:grid-cols-[minmax(300px,450px)_minmax(0,1fr)] gap-5">
      <section aria-labelledby="breaks-title">
        <header class="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1">
          <svelte:element this={isBeginning(today.data) ? 'h2' : 'h1'} id="breaks-title"
            >What breaks next</svelte:element
          >
          <span class="help">soonest first</span>
        </header>
        <ol id="breaks" class="sheet">
          {#if today.data.journal_fault}
            {@const fault = today.data.journal_fault}
            <li class="break" role="alert">
              <span class="text-error font-bold">now</span>
              <div>
                <p class="font-bold">The journal does not hold</p>
                <p class="text-soft">
                  It was changed from outside Neat Latch: {fault} To check all of it, run
                  <code>nlatch journal check</code> on the desk's machine.
                </p>
              </div>
            </li>
          {/if}
          {#each today.data.unsaved as entry (entry.note)}
            <li class="break">
              <time class="text-error font-bold" datetime={entry.since} title={exact(entry.since)}
                >now</time
              >
              <div>
                <p class="font-bold">
                  {entry.name
                    ? `${entry.application} · ${entry.environment}`
                    : 'An answer of an application'}
                </p>
                <p class="text-soft">
                  Not saved: what it gave{entry.name ? ` for ${entry.name}` : ''}. It is sealed
                  beside the database as <span class="value">{entry.note}</span>. To try again, run
                  <code>nlatch safe unsaved</code>
                  on the desk's machine.
                  {#if entry.client}If that does not help, replace this client's secret.{/if}
                </p>
                {#if entry.ref}<a
                    class="act"
                    href="/connections/{entry.ref}"
                    aria-label="Sign in again: {entry.name}">Sign in again</a
                  >
                {:else if entry.client}<a
                    class="act"
                    href="/clients/{entry.client}"
                    aria-label="Open the client: {entry.name}">Open the client</a
                  >{/if}
              </div>
            </li>
          {/each}
          {#if today.data.leftovers}
            <li class="break">
              <span class="text-error font-bold">now</span>
              <div>
                <p class="font-bold">Left behind by tests</p>
                <p class="text-soft">
                  {today.data.leftovers === 1
                    ? 'One thing that a test made'
                    : `${today.data.leftovers} things that tests made`}
                  could not be cleared away.
                </p>
                <a class="act" href="/rounds#leftovers">See what is left</a>
              </div>
            </li>
          {/if}
          {#each breaks as entry (entry.ref || entry.workload)}
            {@const name = entry.application || entry.workloads.join(', ')}
            <li class="break" data-row data-ref={entry.ref || entry.workload}>
              <time
                class="font-bold {entry.at
                  ? new Date(entry.at).getTime() - clock.now < 3_600_000
                    ? 'text-error'
                    : 'text-warning'
                  : 'text-error'}"
                title={exact(entry.at)}>{entry.at ? fromNow(entry.at, clock.now) : 'now'}</time
              >
              <div>
                <p class="font-bold">
                  {name} · {entry.environment}
                </p>
                {#if entry.ref}<p class="value text-soft">{entry.ref}</p>{/if}
                <p class="text-soft">
                  {entry.why}
                  {#if entry.ref && entry.workloads.length}{stops(entry.workloads)}
                    {entry.at ? 'will stop' : 'stopped'}.{/if}
                </p>
                <a
                  class="act"
                  href={entry.workload
                    ? `/workloads/${entry.workload}`
                    : `/connections/${entry.ref}${PUT[entry.act] ?? ''}`}
                  aria-label="{entry.label}: {name}, {entry.environment}{entry.ref
                    ? `, ${entry.ref}`
                    : ''}">{entry.label}</a
                >
              </div>
            </li>
          {:else}
            {@const { unsaved, journal_fault, leftovers } = today.data}
            {#if !unsaved.length && !journal_fault && !leftovers}<li class="px-4 py-4">
                Nothing known will stop within 90 days.
              </li>{/if}
          {/each}
        </ol>
        {#if hasMore}<button
            class="btn btn-sm mt-3"
            disabled={more.isFetching}
            onclick={() => void furtherBreaks()}>More that breaks</button
          >{/if}
      </section>
      <Wall today={today.data} />
    </div>
  {/if}
{/if}
