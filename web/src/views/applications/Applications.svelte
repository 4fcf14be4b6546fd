<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import { searchParams } from 'sv-router'
  import FilterBar from '../../lib/FilterBar.svelte'
  import Loading from '../../lib/Loading.svelte'
  import SubNav from '../../lib/SubNav.svelte'
  import { may } from '../../lib/session.svelte'

  let words = $state(String(searchParams.get('words') ?? ''))
  const list = createQuery(() => ({
    queryKey: ['applications', words],
    queryFn: () => ok(api.GET('/api/applications', { params: { query: { words } } })),
    placeholderData: (before) => before,
  }))
</script>

<svelte:head><title>Applications · Neat Latch</title></svelte:head>
<SubNav group="applications" />
<header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  <h1>Applications</h1>
  <FilterBar list="applications" bind:words placeholder="words, or env:staging owner:freight scheme:basic" />
  {#if may('change')}<a class="btn btn-primary btn-sm ms-auto" href="/applications/new" data-key="n"
      >Add an application <kbd class="value text-[0.85em] opacity-80">N</kbd></a
    >{/if}
</header>
<Loading query={list} />
{#if list.data}
  {#if list.data.length}
    <div class="sheet overflow-x-auto">
      <table class="rows">
        <thead
          ><tr
            ><th>Name</th><th>What it is for</th><th>Owner</th><th>How it lets others in</th><th>Environments</th><th
              >Connections</th
            ></tr
          ></thead
        >
        <tbody>
          {#each list.data as one (one.key)}
            <tr data-row>
              <td><a class="act" href="/applications/{one.key}">{one.name}</a></td>
              <td>{one.purpose}</td>
              <td>{one.owner}</td>
              <td>{one.schemes.join('; ')}</td>
              <td
                ><span class="flex gap-1"
                  >{#each one.environments as environment (environment.key)}<EnvBadge {environment} />{/each}</span
                ></td
              >
              <td>{one.connections}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else if words}<p class="sheet p-4">No application fits “{words}”.</p>
  {:else}
    <div class="sheet max-w-xl p-6">
      <p class="mb-3">
        An application is one of the firm's programs that lets others in: it keeps clients, scopes and secrets of its own. Add one
        by the address where it publishes how to sign in, or describe it by hand.
      </p>
      {#if may('change')}<a class="btn btn-primary" href="/applications/new">Add an application</a>{/if}
    </div>
  {/if}
{/if}
