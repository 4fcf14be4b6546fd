<script lang="ts">
  import { createInfiniteQuery } from '@tanstack/svelte-query'
  import { api, ok, type Schemas, type Today } from '../../api/client'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Glyph from '../../lib/Glyph.svelte'
  import Spark from '../../lib/Spark.svelte'
  import When from '../../lib/When.svelte'
  import { grouped, STATES } from '../../lib/words'

  /**
   * Every application in its environments, the broken first: a page with what is counted, the
   * others as they come into sight.
   */
  let { today }: { today: Today } = $props()
  type Row = Schemas['WallRow']
  const GROUPS: Record<string, string> = {
    unlatched: 'with an unlatched connection',
    sticking: 'with one that sticks',
    out: 'with a pin out',
    not_proven: 'with one not proven',
    latched: 'all latched',
    none: 'with no connection',
  }
  let words = $state('')
  let scrolled = $state(false)
  const whole = createInfiniteQuery(() => ({
    queryKey: ['today', 'wall', words],
    queryFn: ({ pageParam }) =>
      ok(
        api.GET('/api/today/wall', {
          params: { query: { words, cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: (before) => before,
    refetchInterval: 15_000,
    enabled: scrolled || Boolean(words),
  }))
  const paged = $derived(scrolled || Boolean(words) ? whole.data : undefined)
  const rows = $derived(paged?.pages.flatMap((entry) => entry.items) ?? today.wall.items)
  const hasMore = $derived(paged ? whole.hasNextPage : Boolean(today.wall.next))
  const groups = $derived.by(() => {
    const found: { worst: string; rows: Row[] }[] = []
    for (const row of rows) {
      if (found.at(-1)?.worst !== row.worst) found.push({ worst: row.worst, rows: [] })
      found.at(-1)?.rows.push(row)
    }
    return found
  })
  const applications = $derived(Object.values(today.applications).reduce((a, b) => a + b, 0))
  const total = $derived(Object.values(today.counts).reduce((a, b) => a + b, 0))
  // A connection may work and still have a pin out: by a rule of the house, not by a refusal. The
  // counts say so, or they would not match the wall.
  const counts = $derived(
    Object.entries(today.counts)
      .filter(([, count]) => count > 0)
      .map(
        ([state, count]) =>
          `${grouped(count)} ${STATES[state]?.toLowerCase()}` +
          (state === 'latched' && today.ruled_out
            ? `, ${grouped(today.ruled_out)} of them with a pin out`
            : ''),
      )
      .join(' · '),
  )
  const out = (fits: string[]) => fits.some((fit) => fit === 'differs' || fit === 'missing')

  async function further(): Promise<void> {
    if (whole.isFetching) return
    if (!scrolled && !words) {
      scrolled = true
      await whole.refetch()
    }
    await whole.fetchNextPage()
  }
  /** The next page is fetched before its end comes into sight. */
  function watched(end: HTMLElement): () => void {
    const seen = new IntersectionObserver(
      (found) => found.some((entry) => entry.isIntersecting) && void further(),
      {
        rootMargin: '900px',
      },
    )
    seen.observe(end)
    return () => seen.disconnect()
  }
</script>

<section aria-labelledby="wall-title">
  <header class="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1">
    <h2 id="wall-title" class="text-[1.6rem] leading-tight">
      {grouped(total)}
      {total === 1 ? 'connection' : 'connections'}
    </h2>
    <span class="help">{counts}</span>
    {#if today.last_round}
      <a class="act ms-auto" href="/rounds/{today.last_round.number}"
        >Round {today.last_round.number} · {#if today.last_round.ended}<When
            at={today.last_round.ended}
          />{:else}{grouped(today.last_round.done)} of {grouped(today.last_round.total)}{/if}</a
      >
    {/if}
  </header>
  {#if today.wall.next || words}
    <div class="mb-2 flex items-baseline gap-3">
      <input
        class="line-in max-w-sm"
        type="search"
        aria-label="Find on the wall"
        placeholder="an application, or state:unlatched"
        bind:value={words}
      />
      <span class="help">{grouped(applications)} applications, the broken first</span>
    </div>
  {/if}
  <div class="sheet relative overflow-x-auto">
    <table id="wall" class="w-full table-fixed border-collapse max-md:min-w-[720px]">
      <caption class="sr-only"
        >Applications by environment, with each connection's pins, state and last tests</caption
      >
      <thead>
        <tr>
          <th class="w-[18%]"><span class="sr-only">Application</span></th>
          {#each today.environments as environment (environment.key)}
            <th class="border-base-300 h-10 border-l px-3 text-start"><EnvBadge {environment} /></th
            >
          {/each}
        </tr>
      </thead>
      {#each groups as group (group.worst)}
        <tbody>
          {#if today.wall.next || words}
            <tr>
              <th
                scope="rowgroup"
                colspan={today.environments.length + 1}
                class="border-base-300 text-soft border-t px-4 py-1 text-start"
              >
                {words ? '' : grouped(today.applications[group.worst] ?? 0)}
                {GROUPS[group.worst]}
              </th>
            </tr>
          {/if}
          {#each group.rows as row (row.application)}
            <tr data-of-wall>
              <th scope="row" class="border-base-300 border-t px-4 text-start"
                ><a href="/applications/{row.application}" class="hover:underline">{row.name}</a
                ></th
              >
              {#each today.environments as environment (environment.key)}
                {@const cells = row.cells[environment.key] ?? []}
                {@const bad = cells.some(
                  (cell) =>
                    cell.state === 'unlatched' || cell.state === 'sticking' || out(cell.glyph.fits),
                )}
                <td
                  class="border-base-300 h-[53px] border-t border-l px-3 py-1 align-middle {bad
                    ? 'bg-bad-ground'
                    : ''}"
                >
                  {#each cells as cell (cell.ref)}
                    <a
                      href="/connections/{cell.ref}"
                      class="flex min-h-[28px] items-center gap-3"
                      title="{cell.ref}: {STATES[cell.state]}"
                    >
                      <Glyph
                        fits={cell.glyph.fits}
                        says="{cell.ref}, {STATES[cell.state]}: {cell.glyph.says}"
                      />
                      <span class="ms-auto min-w-0 shrink text-end text-[0.93em]">
                        {#if cell.says}<span class="font-bold {bad ? 'text-error' : 'text-soft'}"
                            >{cell.says}</span
                          >{:else}<Spark recent={cell.recent} />{/if}
                      </span>
                    </a>
                  {:else}
                    <span class="text-soft block text-center"
                      >—<span class="sr-only">not set up</span></span
                    >
                  {/each}
                  {#if row.more[environment.key]}<a
                      class="act"
                      href="/connections?words={encodeURIComponent(
                        `app:${row.application} env:${environment.key}`,
                      )}">{grouped(row.more[environment.key] ?? 0)} more</a
                    >{/if}
                </td>
              {/each}
            </tr>
          {/each}
        </tbody>
      {/each}
    </table>
    {#if words && paged && rows.length === 0}<p class="p-4">
        Nothing on the wall fits “{words}”.
        <button class="act" onclick={() => (words = '')}>Show all</button>
      </p>{/if}
  </div>
  {#if hasMore}{#key rows.length}<div {@attach watched}>
        <button class="btn btn-sm mt-3" disabled={whole.isFetching} onclick={() => void further()}
          >More applications</button
        >
      </div>{/key}{/if}
</section>
