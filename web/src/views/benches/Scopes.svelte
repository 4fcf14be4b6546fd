<script lang="ts">
  import { searchParams } from 'sv-router'
  import { api, ok } from '../../api/client'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import ListPage from '../../lib/ListPage.svelte'
  import { paged } from '../../lib/paged.svelte'

  let words = $state(String(searchParams.get('words') ?? ''))
  const found = paged(
    () => ['scopes', words],
    (cursor) => ok(api.GET('/api/scopes', { params: { query: { words, cursor } } })),
  )
</script>

<ListPage
  title="Scopes and consent"
  group="applications"
  list="scopes"
  bind:words
  placeholder="words, or env:production app:cargo"
  query={found.query}
  rows={found.rows}
  key={(row) => row.client}
>
  {#snippet actions()}<span class="help"
      >what each client or account may do, against what its workloads call</span
    >{/snippet}
  {#snippet head()}<th>Client or account</th><th>Application</th><th>Environment</th><th
      >Permitted</th
    ><th>Workloads</th><th>Missing</th><th>Could go</th><th>Nothing allows</th><th>Consent</th><th
      >Older tokens</th
    >{/snippet}
  {#snippet row(item)}
    <td><a class="act" href="/clients/{item.client}/scopes">{item.name}</a></td>
    <td>{item.application_name}</td>
    <td><EnvBadge environment={item.environment} /></td>
    <td>{item.permitted} {item.word}{item.permitted === 1 ? '' : 's'}</td>
    <td>{item.workloads}</td>
    <td class={item.missing ? 'text-error font-semibold' : 'text-soft'}>{item.missing || 'none'}</td
    >
    <td class={item.can_go && item.workloads ? 'text-warning font-semibold' : 'text-soft'}
      >{item.workloads ? item.can_go || 'none' : 'no workload'}</td
    >
    <td class={item.impossible ? 'text-error font-semibold' : 'text-soft'}
      >{item.impossible || 'none'}</td
    >
    <td class={item.consents_missing ? 'text-error font-semibold' : 'text-soft'}
      >{item.consents_missing
        ? `${item.consents_missing} missing`
        : item.word === 'scope'
          ? 'enough'
          : 'none required'}</td
    >
    <td class={item.stale ? 'text-warning font-semibold' : 'text-soft'}>{item.stale || 'none'}</td>
  {/snippet}
  {#snippet empty()}
    <p>
      Clients appear here when their application's scopes or roles are known: from its metadata, its
      API description, or manually.
    </p>
  {/snippet}
</ListPage>
