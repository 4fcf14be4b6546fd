<script lang="ts">
  import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Today as TodayOut } from '../../api/client'
  import { clock } from '../../lib/clock.svelte'
  import Loading from '../../lib/Loading.svelte'
  import { exact, fromNow } from '../../lib/time'
  import FirstSteps from './FirstSteps.svelte'
  import Wall from './Wall.svelte'

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
    more.data?.pages.flatMap((one) => one.items) ?? today.data?.breaks.items ?? [],
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
            <li
              class="border-base-300 grid grid-cols-[58px_1fr] sm:grid-cols-[84px_1fr] gap-2 border-b px-4 py-3 last:border-0"
              role="alert"
            >
              <span class="text-error font-bold">now</span>
              <div>
                <p class="font-bold">The journal does not hold</p>
                <p class="text-soft">
                  {today.data.journal_fault} Somebody or something changed it past Neat Latch. On the
                  desk's machine,
                  <code>bin/nlatch journal check</code> looks at all of it.
                </p>
              </div>
            </li>
          {/if}
          {#each today.data.unsaved as one (one.note)}
            <li
              class="border-base-300 grid grid-cols-[58px_1fr] sm:grid-cols-[84px_1fr] gap-2 border-b px-4 py-3 last:border-0"
            >
              <time class="text-error font-bold" datetime={one.since} title={exact(one.since)}
                >now</time
              >
              <div>
                <p class="font-bold">
                  {one.name
                    ? `${one.application} · ${one.environment}`
                    : 'An answer of an application'}
                </p>
                <p class="text-soft">
                  What {one.name ? `it gave for ${one.name}` : 'it gave'} could not be saved, and lies
                  sealed beside the database as
                  <span class="value">{one.note}</span>. On the desk's machine,
                  <code>bin/nlatch safe unsaved</code>
                  tries again and says what is left.
                  {#if one.client}If that does not help, replace this client's secret.{/if}
                </p>
                {#if one.ref}<a
                    class="act"
                    href="/connections/{one.ref}"
                    aria-label="Sign in again: {one.name}">Sign in again</a
                  >
                {:else if one.client}<a
                    class="act"
                    href="/clients/{one.client}"
                    aria-label="Open the client: {one.name}">Open the client</a
                  >{/if}
              </div>
            </li>
          {/each}
          {#if today.data.leftovers}
            <li
              class="border-base-300 grid grid-cols-[58px_1fr] sm:grid-cols-[84px_1fr] gap-2 border-b px-4 py-3 last:border-0"
            >
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
          {#each breaks as one (one.ref || one.workload)}
            {@const name = one.application || one.workloads.join(', ')}
            <li
              class="border-base-300 grid grid-cols-[58px_1fr] sm:grid-cols-[84px_1fr] gap-2 border-b px-4 py-3 last:border-0"
              data-row
              data-ref={one.ref || one.workload}
            >
              <time
                class="font-bold {one.at
                  ? new Date(one.at).getTime() - clock.now < 3_600_000
                    ? 'text-error'
                    : 'text-warning'
                  : 'text-error'}"
                title={exact(one.at)}>{one.at ? fromNow(one.at, clock.now) : 'now'}</time
              >
              <div>
                <p class="font-bold">
                  {name} · {one.environment}{#if one.ref}&nbsp;<span
                      class="value text-soft font-normal">{one.ref}</span
                    >{/if}
                </p>
                <p class="text-soft">
                  {one.why}
                  {#if one.ref && one.workloads.length}{one.workloads.length === 1
                      ? one.workloads[0]
                      : `${one.workloads.length > 20 ? 'more than 20' : one.workloads.length} workloads`}
                    {one.at ? 'will stop' : 'stopped'}.{/if}
                </p>
                <a
                  class="act"
                  href={one.workload
                    ? `/workloads/${one.workload}`
                    : `/connections/${one.ref}${one.act === 'put_secret' ? '?put=secret' : ''}`}
                  aria-label="{one.label}: {name}, {one.environment}{one.ref ? `, ${one.ref}` : ''}"
                  >{one.label}</a
                >
              </div>
            </li>
          {:else}
            {#if !today.data.unsaved.length && !today.data.journal_fault && !today.data.leftovers}<li
                class="px-4 py-4"
              >
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
