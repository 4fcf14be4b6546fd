<script lang="ts">
  import { searchParams } from 'sv-router'
  import { api, ok } from '../../api/client'
  import Loading from '../../lib/Loading.svelte'
  import { paged } from '../../lib/paged.svelte'
  import When from '../../lib/When.svelte'
  import { KINDS } from './kinds'

  let words = $state(String(searchParams.get('words') ?? ''))
  const found = paged(
    () => ['decommissionings', words],
    (cursor) => ok(api.GET('/api/decommissionings', { params: { query: { words, cursor } } })),
  )
  function filter(): void {
    if (words) searchParams.set('words', words)
    else searchParams.delete('words')
  }
</script>

<svelte:head><title>Decommissioning · Neat Latch</title></svelte:head>
<header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  <h1>Decommissioning</h1>
  <input
    class="line-in max-w-sm"
    type="search"
    aria-label="Filter"
    placeholder="words, or kind:connections over:no"
    bind:value={words}
    oninput={filter}
  />
  <span class="help">newest first</span>
</header>
<Loading query={found.query} />
{#if found.rows.length}
  <div class="sheet overflow-x-auto">
    <table class="rows">
      <thead><tr><th>Name</th><th>Kind</th><th>Where</th><th>Begun</th><th>Comes to</th></tr></thead
      >
      <tbody>
        {#each found.rows as row (row.id)}
          <tr data-row>
            <td><a class="act value" href="/decommissioning/{row.id}">{row.name}</a></td>
            <td>{KINDS[row.of]}</td>
            <td>{row.where}</td>
            <td><When at={row.begun} past /> by {row.begun_by}</td>
            <td
              >{#if row.cancelled}<span class="text-soft">stopped</span>
              {:else if row.ended}<When at={row.ended} prefix="decommissioned " past />
              {:else}<span class="text-warning font-semibold">under way</span>{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
  {#if found.query.hasNextPage}<button
      class="btn btn-sm mt-3"
      onclick={() => found.query.fetchNextPage()}>Show more</button
    >{/if}
{:else if found.query.data}
  <div class="sheet max-w-xl p-6">
    {#if words}<p>Nothing fits “{words}”.</p>
    {:else}<p>
        Nothing has been decommissioned. Begin on the page of a connection, a client, a workload or
        an application. The steps are: see who still uses it, revoke it, prove that it is refused,
        forget its secrets, keep its history.
      </p>{/if}
  </div>
{/if}
