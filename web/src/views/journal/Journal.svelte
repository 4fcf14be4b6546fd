<script lang="ts">
  import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import Loading from '../../lib/Loading.svelte'
  import When from '../../lib/When.svelte'

  let filter = $state('')
  const list = createInfiniteQuery(() => ({
    queryKey: ['journal', filter],
    queryFn: ({ pageParam }) =>
      ok(
        api.GET('/api/journal', {
          params: { query: { words: filter, cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: (before) => before,
  }))
  const chain = createQuery(() => ({
    queryKey: ['journal-chain'],
    queryFn: () => ok(api.GET('/api/journal/chain')),
  }))
  const rows = $derived(list.data?.pages.flatMap((entry) => entry.items) ?? [])
  const words = (value: unknown): string =>
    typeof value === 'string'
      ? value
      : Array.isArray(value)
        ? value.map(words).join(', ')
        : JSON.stringify(value)
  const shown = (details: Record<string, unknown>) =>
    Object.entries(details)
      .filter(([, value]) => value !== '' && JSON.stringify(value) !== '[]')
      .map(([key, value]) => `${key.replaceAll('_', ' ')}: ${words(value)}`)
      .join('; ')
</script>

<svelte:head><title>Journal · Neat Latch</title></svelte:head>
<header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
  <h1>Journal</h1>
  <input
    class="line-in max-w-sm"
    type="search"
    aria-label="Filter"
    placeholder="who, what, which"
    bind:value={filter}
  />
  {#if chain.data}
    <span class={chain.data.holds ? 'text-success font-semibold' : 'text-error font-semibold'}
      >{chain.data.holds ? `It holds over ${chain.data.entries} entries` : chain.data.fault}</span
    >
    {#if chain.data.holds}<span class="text-soft"
        >{#if chain.data.whole_at}all of it checked <When at={chain.data.whole_at} />{:else}all of
          it is checked within a week{/if}</span
      >{/if}
  {/if}
</header>
<Loading query={list} />
{#if list.data}
  <div class="sheet overflow-x-auto">
    <table class="rows">
      <thead
        ><tr
          ><th>No.</th><th>When</th><th>Who</th><th>Did</th><th>To</th><th>Details</th><th>Code</th
          ></tr
        ></thead
      >
      <tbody>
        {#each rows as row (row.number)}
          <tr>
            <td>{row.number}</td><td class="whitespace-nowrap"><When at={row.at} /></td><td
              >{row.who}</td
            ><td>{row.did}</td>
            <td>{row.noun} <span class="value">{row.ref}</span></td><td
              class="text-soft max-w-[30rem] wrap-anywhere">{shown(row.details)}</td
            ><td class="value text-soft" title={row.own}>{row.own.slice(0, 8)}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
  {#if list.hasNextPage}<button class="btn btn-sm mt-3" onclick={() => void list.fetchNextPage()}
      >Older</button
    >{/if}
{/if}
