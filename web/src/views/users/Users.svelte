<script lang="ts">
  import { createInfiniteQuery } from '@tanstack/svelte-query'
  import { searchParams } from 'sv-router'
  import { api, ok } from '../../api/client'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import ListPage from '../../lib/ListPage.svelte'
  import { may } from '../../lib/session.svelte'
  import { goto } from '../../router'
  import UserForm from './UserForm.svelte'
  import NextWindow from './NextWindow.svelte'

  let words = $state(String(searchParams.get('words') ?? ''))
  let adding = $state(false)
  const list = createInfiniteQuery(() => ({
    queryKey: ['users', words],
    queryFn: ({ pageParam }) => ok(api.GET('/api/users', { params: { query: { words, cursor: pageParam || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: (before) => before,
  }))
  const rows = $derived(list.data?.pages.flatMap((one) => one.items) ?? [])
</script>

<ListPage
  title="Users of connections"
  group="connections"
  list="users"
  bind:words
  placeholder="words, or env:staging kind:job owner: warned:yes"
  query={list}
  {rows}
  key={(one) => one.id}
>
  {#snippet actions()}{#if may('change')}<button
        class="btn btn-primary btn-sm ms-auto"
        data-key="n"
        onclick={() => (adding = !adding)}>Note a user <kbd class="value text-[0.85em] opacity-80">N</kbd></button
      >{/if}{/snippet}
  {#snippet above()}{#if adding}<UserForm
        done={(saved) => {
          adding = false
          if (saved) goto(`/users/${saved.id}`)
        }}
      />{/if}{/snippet}
  {#snippet head()}<th>Name</th><th>Kind</th><th>Environment</th><th>Owner</th><th>Runs</th><th>Uses</th><th>Change windows</th
    ><th>To look at</th>{/snippet}
  {#snippet row(one)}
    <td><a class="act" href="/users/{one.id}">{one.name}</a></td>
    <td>{one.kind}</td>
    <td><EnvBadge environment={one.environment} /></td>
    <td>{one.owner || '—'}</td>
    <td>{one.runs}</td>
    <td
      >{#each one.uses as use (use.id)}{#if use.connection}<a class="act value me-2" href="/connections/{use.connection}"
            >{use.connection}</a
          >{:else}<span class="text-error me-2">{use.application_name}, none named</span>{/if}{:else}<span class="text-soft"
          >nothing</span
        >{/each}</td
    >
    <td
      >{one.windows.join('; ') || 'any time'}{#if one.next_window}<br /><span class="help"
          ><NextWindow at={one.next_window} /></span
        >{/if}</td
    >
    <td class="text-error max-w-[22rem] font-semibold">{one.warnings[0]?.says ?? ''}</td>
  {/snippet}
  {#snippet empty()}
    <p class="mb-3">
      A user is a job, report, script or agent that calls applications by a connection. When it is known who calls what, it is
      known who stops, and which rights are too many.
    </p>
    {#if may('change')}<button class="btn btn-primary" onclick={() => (adding = true)}>Note a user</button>{/if}
  {/snippet}
</ListPage>
