<script lang="ts">
  import { searchParams } from 'sv-router'
  import { api, ok } from '../../api/client'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import ListPage from '../../lib/ListPage.svelte'
  import { paged } from '../../lib/paged.svelte'

  let words = $state(String(searchParams.get('words') ?? ''))
  const found = paged(
    () => ['access-rules', words],
    (cursor) => ok(api.GET('/api/access-rules', { params: { query: { words, cursor } } })),
  )
</script>

<ListPage
  title="Access rules"
  group="applications"
  list="access-rules"
  bind:words
  placeholder="words, or env:production app:cargo"
  query={found.query}
  rows={found.rows}
  key={(row) => `${row.application}/${row.environment.key}`}
>
  {#snippet actions()}<span class="help">who may do what, by rules or by roles</span>{/snippet}
  {#snippet head()}<th>Application</th><th>Environment</th><th>Decided by</th><th>Rules</th><th
      >Never decide</th
    ><th>At the application</th>{/snippet}
  {#snippet row(item)}
    <td
      ><a class="act" href="/access-rules/{item.application}/{item.environment.key}"
        >{item.application_name}</a
      ></td
    >
    <td><EnvBadge environment={item.environment} /></td>
    <td>{item.derived ? 'roles of accounts' : 'rules'}</td>
    <td>{item.rules}</td>
    <td class={item.idle ? 'text-warning font-semibold' : 'text-soft'}
      >{item.idle === null ? 'too many rules to tell' : item.idle || 'none'}</td
    >
    <td class={item.differs ? 'text-error font-semibold' : 'text-soft'}
      >{item.derived
        ? 'set in its own screens'
        : item.differs
          ? 'differs from ours'
          : 'no difference seen'}</td
    >
  {/snippet}
  {#snippet empty()}
    <p>
      Applications appear here when their profile names roles, or a place where access rules can be
      read and written.
    </p>
  {/snippet}
</ListPage>
