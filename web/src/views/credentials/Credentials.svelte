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
  key={(one) => one.id}
  choosing={chosen}
  named={(one) => one.hint}
>
  {#snippet actions()}<span class="help">what ends soonest first</span>{/snippet}
  {#snippet head()}<th>Secret</th><th>Ends</th><th>Application</th><th>Client</th><th>Used by</th
    ><th class="whitespace-nowrap">Last used</th><th>Findings</th>{/snippet}
  {#snippet row(one)}
    <td class="whitespace-nowrap"
      ><a class="act value" href="/credentials/{one.id}">{one.hint}</a><Tags
        tags={one.tags}
        list="/credentials"
        most={3}
      /><br /><span class="text-soft"
        >{kindName(one.kind, one.house)}{one.state === 'active' ? '' : `, ${one.state}`}</span
      ></td
    >
    <td class="whitespace-nowrap {one.over ? 'text-error font-semibold' : ''}"
      >{#if one.ends}<When at={one.ends} />{:else}<span class="text-warning">none known</span
        >{/if}</td
    >
    <td>{one.application}<br /><span class="text-soft">{one.environment}</span></td>
    <td
      >{#if one.client_key}<a class="hover:underline" href="/clients/{one.client_key}"
          >{one.client}</a
        >{/if}{#if one.owner}<br /><span class="text-soft">{one.owner}</span>{/if}</td
    >
    <td
      >{#each one.connections as ref (ref)}<a class="act value me-2" href="/connections/{ref}"
          >{ref}</a
        >{:else}{#if one.workload}<a class="act" href="/workloads/{one.workload}"
            >{one.workload_name}</a
          > draws{:else}<span class="text-soft">no connection</span>{/if}{/each}</td
    >
    <td class="whitespace-nowrap"><When at={one.last_used} />{one.last_used ? '' : '—'}</td>
    <td
      >{#each one.marks as mark (mark.key)}<p
          class={mark.grave ? 'text-error font-semibold' : 'text-warning'}
        >
          {mark.says}
        </p>{/each}{#if one.replaces}<p class="text-soft">
          replaces <span class="value">{one.replaces}</span>
        </p>{/if}{#if one.replaced_by}<p class="text-soft">
          replaced by <span class="value">{one.replaced_by}</span>
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
