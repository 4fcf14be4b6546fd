<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import SubNav from '../../lib/SubNav.svelte'

  const list = createQuery(() => ({ queryKey: ['redirect-uris'], queryFn: () => ok(api.GET('/api/redirect-uris')) }))
  const off = $derived((list.data ?? []).filter((one) => one.near_misses || one.unused || one.faulty).length)
</script>

<svelte:head><title>Redirect URIs · Neat Latch</title></svelte:head>
<SubNav group="applications" />
<header class="mb-3 flex items-baseline gap-4">
  <h1>Redirect URIs</h1>
  {#if list.data}<span class="help"
      >{list.data.length} clients that sign people in{off ? `, ${off} with something to look at` : ''}</span
    >{/if}
</header>
<Loading query={list} />
{#if list.data}
  {#if list.data.length}
    <div class="sheet overflow-x-auto">
      <table class="rows">
        <thead
          ><tr
            ><th>Client</th><th>Application</th><th>Environment</th><th>Registered</th><th>Callers that match</th><th
              >Near misses</th
            ><th>Used by nobody here</th><th>Faulty</th><th>Changed</th></tr
          ></thead
        >
        <tbody>
          {#each list.data as one (one.client)}
            <tr data-row>
              <td><a class="act" href="/clients/{one.client}/redirect-uris">{one.name}</a></td>
              <td>{one.application_name}</td>
              <td><EnvBadge environment={one.environment} /></td>
              <td>{one.registered}</td>
              <td>{one.matched} of {one.callers}</td>
              <td class={one.near_misses ? 'text-error font-semibold' : 'text-soft'}>{one.near_misses || 'none'}</td>
              <td class={one.unused ? 'text-warning font-semibold' : 'text-soft'}>{one.unused || 'none'}</td>
              <td class={one.faulty ? 'text-error font-semibold' : 'text-soft'}>{one.faulty || 'none'}</td>
              <td>{one.planned ? 'a change is planned' : one.managed ? 'by protocol' : 'by hand'}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else}<p class="sheet max-w-xl p-6">
      Clients that sign people in appear here, with every redirect URI that is registered and every one that a connection sends.
    </p>{/if}
{/if}
