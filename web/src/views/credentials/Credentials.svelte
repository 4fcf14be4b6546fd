<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { searchParams } from 'sv-router'
  import FilterBar from '../../lib/FilterBar.svelte'
  import Loading from '../../lib/Loading.svelte'
  import SubNav from '../../lib/SubNav.svelte'
  import When from '../../lib/When.svelte'

  let words = $state(String(searchParams.get('words') ?? ''))
  const list = createQuery(() => ({
    queryKey: ['credentials', words],
    queryFn: () => ok(api.GET('/api/credentials', { params: { query: { words } } })),
    placeholderData: (before) => before,
  }))
  const rows = $derived(list.data ?? [])
</script>

<svelte:head><title>Credentials · Neat Latch</title></svelte:head>
<SubNav group="credentials" />
<header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  <h1>Credentials</h1>
  <FilterBar list="credentials" bind:words placeholder="words, or env:production kind:api_key used:no ends:no" />
  <span class="help">what ends soonest first</span>
</header>
<Loading query={list} />
{#if list.data}
  {#if rows.length}
    <div class="sheet overflow-x-auto">
      <table class="rows">
        <thead
          ><tr
            ><th>Secret</th><th>Ends</th><th>Application</th><th>Environment</th><th>Client</th><th>Used by</th><th>Came by</th
            ><th>Kept since</th></tr
          ></thead
        >
        <tbody>
          {#each rows as one (one.id)}
            <tr data-row>
              <td class="value">{one.kind === 'private_key' ? 'private key' : one.hint}</td>
              <td class={one.over ? 'text-error font-semibold' : ''}
                >{#if one.ends}<When at={one.ends} />{:else}<span class="text-warning">no end date known</span>{/if}</td
              >
              <td>{one.application}</td><td>{one.environment}</td>
              <td>{one.client}<br /><span class="value text-soft">{one.client_id}</span></td>
              <td
                >{#each one.connections as ref (ref)}<a class="act value me-2" href="/connections/{ref}">{ref}</a>{:else}<span
                    class="text-soft">no connection</span
                  >{/each}</td
              >
              <td>{one.source === 'registered' ? 'registration' : `pasted by ${one.put_in_by}`}</td>
              <td><When at={one.issued} /></td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else}<p class="sheet max-w-xl p-6">
      {words
        ? `Nothing fits “${words}”.`
        : 'Secrets appear here when a client is registered or one is put into a connection: by their last characters only, with when they end and what uses them.'}
    </p>{/if}
{/if}
