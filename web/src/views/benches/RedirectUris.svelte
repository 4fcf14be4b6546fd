<script lang="ts">
  import { searchParams } from 'sv-router'
  import { api, ok } from '../../api/client'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import ListPage from '../../lib/ListPage.svelte'
  import { paged } from '../../lib/paged.svelte'

  let words = $state(String(searchParams.get('words') ?? ''))
  const found = paged(
    () => ['redirect-uris', words],
    (cursor) => ok(api.GET('/api/redirect-uris', { params: { query: { words, cursor } } })),
  )
</script>

<ListPage
  title="Redirect URIs"
  group="applications"
  list="redirect-uris"
  bind:words
  placeholder="words, or env:production app:cargo"
  query={found.query}
  rows={found.rows}
  key={(row) => row.client}
>
  {#snippet actions()}<span class="help">of clients that sign people in</span>{/snippet}
  {#snippet head()}<th>Client</th><th>Application</th><th>Environment</th><th>Registered</th><th
      >Callers that match</th
    ><th>Near misses</th><th>Unused here</th><th>Faulty</th><th>Changed</th>{/snippet}
  {#snippet row(item)}
    <td><a class="act" href="/clients/{item.client}/redirect-uris">{item.name}</a></td>
    <td>{item.application_name}</td>
    <td><EnvBadge environment={item.environment} /></td>
    <td>{item.registered}</td>
    <td>{item.matched} of {item.callers}</td>
    <td class={item.near_misses ? 'text-error font-semibold' : 'text-soft'}
      >{item.near_misses || 'none'}</td
    >
    <td class={item.unused ? 'text-warning font-semibold' : 'text-soft'}>{item.unused || 'none'}</td
    >
    <td class={item.faulty ? 'text-error font-semibold' : 'text-soft'}>{item.faulty || 'none'}</td>
    <td>{item.planned ? 'a change is planned' : item.managed ? 'by protocol' : 'manually'}</td>
  {/snippet}
  {#snippet empty()}
    <p>
      Clients that sign people in appear here, with every redirect URI that is registered and every
      one that a connection sends.
    </p>
  {/snippet}
</ListPage>
