<script lang="ts">
  import { api, ok } from '../../api/client'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import { searchParams } from 'sv-router'
  import { choosing } from '../../lib/choosing.svelte'
  import ListPage from '../../lib/ListPage.svelte'
  import { paged } from '../../lib/paged.svelte'
  import Tags from '../../lib/Tags.svelte'
  import { may } from '../../lib/session.svelte'

  const chosen = choosing('applications')
  let words = $state(String(searchParams.get('words') ?? ''))
  const found = paged(
    () => ['applications', words],
    (cursor) => ok(api.GET('/api/applications', { params: { query: { words, cursor } } })),
  )
  const onlyOurselves = $derived(
    !words &&
      !found.query.hasNextPage &&
      found.rows.length > 0 &&
      found.rows.every((row) => row.own),
  )
</script>

<ListPage
  title="Applications"
  group="applications"
  list="applications"
  bind:words
  placeholder="words, or env:staging owner:freight"
  query={found.query}
  rows={found.rows}
  key={(row) => row.key}
  choosing={onlyOurselves ? undefined : chosen}
  named={(row) => row.name}
>
  {#snippet actions()}{#if may('change')}<a
        class="btn btn-primary btn-sm ms-auto"
        href="/applications/new"
        data-key="n">Add an application <kbd class="value text-[0.85em] opacity-80">N</kbd></a
      >{/if}{/snippet}
  {#snippet head()}<th>Name</th><th>Purpose</th><th>Owner</th><th>Authentication scheme</th><th
      >Environments</th
    ><th>Connections</th>{/snippet}
  {#snippet row(item)}
    <td
      ><a class="act" href="/applications/{item.key}">{item.name}</a><Tags
        tags={item.tags}
        list="/applications"
        most={3}
      /></td
    >
    <td>{item.purpose}</td>
    <td>{item.owner}</td>
    <td>{item.schemes.join('; ')}</td>
    <td
      ><span class="flex gap-1"
        >{#each item.environments as environment (environment.key)}<EnvBadge
            {environment}
          />{/each}</span
      ></td
    >
    <td>{item.connections}</td>
  {/snippet}
  {#snippet below()}
    {#if onlyOurselves}<section class="sheet mt-4 max-w-xl p-6">
        <h2 class="mb-2">No application of yours yet</h2>
        {@render first()}
      </section>{/if}
  {/snippet}
  {#snippet empty()}{@render first()}{/snippet}
</ListPage>

{#snippet first()}
  <p class="mb-3">
    An application is one of the firm's programs that lets others in: it keeps clients, scopes and
    secrets of its own. Add one by the address where it publishes how to sign in, or describe it
    manually.
  </p>
  {#if may('change')}<a class="btn btn-primary" href="/applications/new">Add an application</a>{/if}
  {#if may('change')}<p class="help mt-3">
      <a class="act" href="/inventory?table=applications">Import them from a spreadsheet</a>
    </p>{/if}
{/snippet}
