<script lang="ts">
  import { api, ok } from '../../api/client'
  import { searchParams } from 'sv-router'
  import { choosing } from '../../lib/choosing.svelte'
  import ListPage from '../../lib/ListPage.svelte'
  import { paged } from '../../lib/paged.svelte'
  import Tags from '../../lib/Tags.svelte'
  import When from '../../lib/When.svelte'
  import { kindName } from '../../lib/words'

  const chosen = choosing('credentials')
  let words = $state(String(searchParams.get('words') ?? ''))
  const found = paged(
    () => ['credentials', words],
    (cursor) => ok(api.GET('/api/credentials', { params: { query: { words, cursor } } })),
  )
</script>

<ListPage
  title="Credentials"
  group="credentials"
  list="credentials"
  bind:words
  placeholder="words, or env:production mark:unused ends:30d"
  query={found.query}
  rows={found.rows}
  key={(row) => row.id}
  choosing={chosen}
  named={(row) => row.hint}
>
  {#snippet actions()}<span class="help">soonest expiry first</span>{/snippet}
  {#snippet head()}<th>Secret</th><th>Expires</th><th>Application</th><th>Client</th><th>Used by</th
    ><th class="whitespace-nowrap">Last used</th><th>Findings</th>{/snippet}
  {#snippet row(item)}
    <td class="whitespace-nowrap"
      ><a class="act value" href="/credentials/{item.id}">{item.hint}</a><Tags
        tags={item.tags}
        list="/credentials"
        most={3}
      /><br /><span class="text-soft"
        >{kindName(item.kind, item.house)}{item.state === 'active' ? '' : `, ${item.state}`}</span
      ></td
    >
    <td class="whitespace-nowrap {item.over ? 'text-error font-semibold' : ''}"
      >{#if item.ends}<When at={item.ends} />{:else}<span class="text-warning">none known</span
        >{/if}</td
    >
    <td>{item.application}<br /><span class="text-soft">{item.environment}</span></td>
    <td
      >{#if item.client_key}<a class="hover:underline" href="/clients/{item.client_key}"
          >{item.client}</a
        >{/if}{#if item.owner}<br /><span class="text-soft">{item.owner}</span>{/if}</td
    >
    <td
      >{#each item.connections as ref (ref)}<a class="act value me-2" href="/connections/{ref}"
          >{ref}</a
        >{:else}{#if item.workload}<a class="act" href="/workloads/{item.workload}"
            >{item.workload_name}</a
          > draws{:else}<span class="text-soft">no connection</span>{/if}{/each}</td
    >
    <td class="whitespace-nowrap"><When at={item.last_used} />{item.last_used ? '' : '—'}</td>
    <td
      >{#each item.marks as mark (mark.key)}<p
          class={mark.grave ? 'text-error font-semibold' : 'text-warning'}
        >
          {mark.says}
        </p>{/each}{#if item.replaces}<p class="text-soft">
          replaces <span class="value">{item.replaces}</span>
        </p>{/if}{#if item.replaced_by}<p class="text-soft">
          replaced by <span class="value">{item.replaced_by}</span>
        </p>{/if}</td
    >
  {/snippet}
  {#snippet empty()}
    <p>
      Secrets appear here when a client is registered or one is put into a connection: by their last
      characters only, with when they end and what uses them.
    </p>
  {/snippet}
</ListPage>
