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
  key={(one) => one.client}
>
  {#snippet actions()}<span class="help"
      >what each client or account may do, against what its workloads call</span
    >{/snippet}
  {#snippet head()}<th>Client or account</th><th>Application</th><th>Environment</th><th
      >Permitted</th
    ><th>Workloads</th><th>Missing</th><th>Could go</th><th>Nothing allows</th><th>Consent</th><th
      >Older tokens</th
    >{/snippet}
  {#snippet row(one)}
    <td><a class="act" href="/clients/{one.client}/scopes">{one.name}</a></td>
    <td>{one.application_name}</td>
    <td><EnvBadge environment={one.environment} /></td>
    <td>{one.permitted} {one.word}{one.permitted === 1 ? '' : 's'}</td>
    <td>{one.workloads}</td>
    <td class={one.missing ? 'text-error font-semibold' : 'text-soft'}>{one.missing || 'none'}</td>
    <td class={one.can_go && one.workloads ? 'text-warning font-semibold' : 'text-soft'}
      >{one.workloads ? one.can_go || 'none' : 'no workload'}</td
    >
    <td class={one.impossible ? 'text-error font-semibold' : 'text-soft'}
      >{one.impossible || 'none'}</td
    >
    <td class={one.consents_missing ? 'text-error font-semibold' : 'text-soft'}
      >{one.consents_missing
        ? `${one.consents_missing} wanted`
        : one.word === 'scope'
          ? 'enough'
          : 'none wanted'}</td
    >
    <td class={one.stale ? 'text-warning font-semibold' : 'text-soft'}>{one.stale || 'none'}</td>
  {/snippet}
  {#snippet empty()}
    <p>
      Clients appear here when their application's scopes or roles are known: from its metadata, its
      API description, or manually.
    </p>
  {/snippet}
</ListPage>
