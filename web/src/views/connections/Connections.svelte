<script lang="ts">
  import { searchParams } from 'sv-router'
  import { api, ok } from '../../api/client'
  import { choosing } from '../../lib/choosing.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Glyph from '../../lib/Glyph.svelte'
  import ListPage from '../../lib/ListPage.svelte'
  import { paged } from '../../lib/paged.svelte'
  import Pick from '../../lib/Pick.svelte'
  import { may } from '../../lib/session.svelte'
  import Tags from '../../lib/Tags.svelte'
  import When from '../../lib/When.svelte'
  import { inSight } from '../../lib/windowed'
  import { STATES } from '../../lib/words'

  // The filter stands in the address, so that it can be shared.
  let words = $state(String(searchParams.get('words') ?? ''))
  const found = paged(
    () => ['connections', words],
    (cursor) => ok(api.GET('/api/connections', { params: { query: { words, cursor } } })),
  )
  const chosen = choosing('connections')
  const columns = $derived(chosen.on ? 8 : 7)
  const ROW = 36
  let table: HTMLElement | undefined = $state()
  let top = $state(0)
  let sight = $state(800)
  const seen = $derived(inSight(found.rows.length, ROW, top, sight))
  function scrolled(): void {
    if (!table) return
    top = -table.getBoundingClientRect().top
    sight = window.innerHeight
    // The next page is fetched before its end comes into sight.
    if (
      found.query.hasNextPage &&
      !found.query.isFetchingNextPage &&
      found.rows.length * ROW - top - sight < 1500
    )
      void found.query.fetchNextPage()
  }
  $effect(() => {
    if (found.rows.length) scrolled()
    // A filter by pins is looked for row by row: a page may be empty and still have one that
    // follows it.
    else if (found.query.hasNextPage && !found.query.isFetchingNextPage)
      void found.query.fetchNextPage()
  })
</script>

<svelte:window onscroll={scrolled} onresize={scrolled} />
<ListPage
  title="Connections"
  list="connections"
  bind:words
  placeholder="words, or env:production state:unlatched pin:scopes"
  query={found.query}
  rows={found.rows}
  key={(row) => row.ref}
  choosing={chosen}
>
  {#snippet actions()}{#if may('change')}<a class="act ms-auto" href="/connections/names"
        >Join names</a
      ><a class="btn btn-primary btn-sm" href="/connections/new" data-key="n"
        >Add connection <kbd class="value text-[0.85em] opacity-80">N</kbd></a
      >{/if}{/snippet}
  {#snippet above()}
    {#if searchParams.get('returned') === 'unknown'}
      <p role="alert" class="bg-bad-ground mb-3 rounded-md px-3 py-2">
        Somebody came back from an application, but no sign-in of yours was waiting for them.
        Nothing was kept. Begin again from the connection's page.
      </p>
    {/if}
  {/snippet}
  {#snippet body()}
    <div class="sheet overflow-x-auto" bind:this={table}>
      <table class="rows fixed-rows">
        <thead
          ><tr
            >{#if chosen.on}<th><span class="sr-only">Selected</span></th>{/if}<th>Reference</th><th
              >Application</th
            ><th>Environment</th><th>Pins</th><th>State</th><th>Workloads</th><th>Last test</th></tr
          ></thead
        >
        <tbody>
          {#if seen.above}<tr aria-hidden="true"
              ><td colspan={columns} style:height="{seen.above}px" class="!p-0"></td></tr
            >{/if}
          {#each found.rows.slice(seen.first, seen.last) as row (row.ref)}
            <tr data-row>
              {#if chosen.on}<Pick choosing={chosen} id={row.ref} name={row.ref} />{/if}
              <td
                ><a class="act value" href="/connections/{row.ref}">{row.ref}</a><Tags
                  tags={row.tags}
                  list="/connections"
                  most={3}
                /></td
              >
              <td>{row.application_name}</td>
              <td><EnvBadge environment={row.environment} /></td>
              <td><Glyph fits={row.glyph.fits} says={row.glyph.says} /></td>
              <td
                class={row.state === 'unlatched' || row.state === 'sticking'
                  ? 'text-error font-semibold'
                  : row.state === 'latched'
                    ? 'text-success font-semibold'
                    : 'text-soft'}>{STATES[row.state]}{row.paused ? ', not in rounds' : ''}</td
              >
              <td>{row.workloads}</td>
              <td><When at={row.tested_at} />{row.tested_at ? '' : 'never'}</td>
            </tr>
          {/each}
          {#if seen.below}<tr aria-hidden="true"
              ><td colspan={columns} style:height="{seen.below}px" class="!p-0"></td></tr
            >{/if}
        </tbody>
      </table>
    </div>
  {/snippet}
  {#snippet empty()}
    <p class="mb-3">
      A connection is one way from us into one application in one environment. It has a short
      reference name that jobs and scripts quote, and holds both halves: what the application has,
      and what we send.
    </p>
    {#if may('change')}<a class="btn btn-primary" href="/applications"
        >Choose an application first</a
      >{/if}
    {#if may('change')}<p class="help mt-3">
        <a class="act" href="/inventory?table=connections">Import them from a spreadsheet</a>
      </p>{/if}
  {/snippet}
</ListPage>
