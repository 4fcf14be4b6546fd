<script lang="ts">
  import { searchParams } from 'sv-router'
  import { api, ok } from '../../api/client'
  import ListPage from '../../lib/ListPage.svelte'
  import { paged } from '../../lib/paged.svelte'
  import { may } from '../../lib/session.svelte'
  import { goto } from '../../router'
  import OwnerForm from './OwnerForm.svelte'

  let words = $state(String(searchParams.get('words') ?? ''))
  let adding = $state(false)
  const found = paged(
    () => ['owners', words],
    (cursor) => ok(api.GET('/api/owners', { params: { query: { words, cursor } } })),
  )
  const counted = (count: number, one: string) =>
    count ? [`${count} ${one}${count === 1 ? '' : 's'}`] : []
</script>

<ListPage
  title="Owners"
  list="owners"
  bind:words
  placeholder="words, or kind:contact zone:london"
  query={found.query}
  rows={found.rows}
  key={(row) => row.id}
>
  {#snippet actions()}
    <a class="act" href="/people">People and teams</a>
    {#if may('change')}<button
        class="btn btn-primary btn-sm ms-auto"
        data-key="n"
        onclick={() => (adding = !adding)}
        >Add a contact <kbd class="value text-[0.85em] opacity-80">N</kbd></button
      >{/if}
  {/snippet}
  {#snippet above()}{#if adding}<OwnerForm
        done={(saved) => {
          adding = false
          if (saved) goto(`/owners/${saved.owner.id}`)
        }}
      />{/if}{/snippet}
  {#snippet head()}<th>Name</th><th>Kind</th><th>Mail</th><th>Time zone</th><th>Deputy</th><th
      >Owns</th
    >{/snippet}
  {#snippet row(item)}
    <td><a class="act" href="/owners/{item.id}">{item.name}</a></td>
    <td>{item.kind}</td>
    <td>{item.mail || '—'}</td>
    <td>{item.zone || '—'}</td>
    <td>{item.deputy_name || '—'}</td>
    <td
      >{[
        ...counted(item.applications, 'application'),
        ...counted(item.workloads, 'workload'),
        ...counted(item.credentials, 'credential'),
      ].join(', ') || 'nothing'}</td
    >
  {/snippet}
  {#snippet empty()}
    <p class="mb-3">
      An owner is the person, team or outside contact that is asked before something of theirs
      changes. They appear here when an application, a workload or a credential is said to be
      theirs.
    </p>
    {#if may('change')}<button class="btn btn-primary" onclick={() => (adding = true)}
        >Add a contact</button
      >{/if}
  {/snippet}
</ListPage>
