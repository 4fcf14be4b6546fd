<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import SubNav from '../../lib/SubNav.svelte'

  const list = createQuery(() => ({ queryKey: ['scopes'], queryFn: () => ok(api.GET('/api/scopes')) }))
</script>

<svelte:head><title>Scopes · Neat Latch</title></svelte:head>
<SubNav group="applications" />
<header class="mb-3 flex items-baseline gap-4">
  <h1>Scopes and consent</h1>
  <span class="help">what each client or account may do, against what its users call</span>
</header>
<Loading query={list} />
{#if list.data}
  {#if list.data.length}
    <div class="sheet overflow-x-auto">
      <table class="rows">
        <thead
          ><tr
            ><th>Client or account</th><th>Application</th><th>Environment</th><th>Permitted</th><th>Users</th><th>Missing</th><th
              >Could go</th
            ><th>Nothing allows</th><th>Consent</th><th>Older tokens</th></tr
          ></thead
        >
        <tbody>
          {#each list.data as one (one.client)}
            <tr data-row>
              <td><a class="act" href="/clients/{one.client}/scopes">{one.name}</a></td>
              <td>{one.application_name}</td>
              <td><EnvBadge environment={one.environment} /></td>
              <td>{one.permitted} {one.word}{one.permitted === 1 ? '' : 's'}</td>
              <td>{one.users}</td>
              <td class={one.missing ? 'text-error font-semibold' : 'text-soft'}>{one.missing || 'none'}</td>
              <td class={one.can_go && one.users ? 'text-warning font-semibold' : 'text-soft'}
                >{one.users ? one.can_go || 'none' : 'no user noted'}</td
              >
              <td class={one.impossible ? 'text-error font-semibold' : 'text-soft'}>{one.impossible || 'none'}</td>
              <td class={one.consents_missing ? 'text-error font-semibold' : 'text-soft'}
                >{one.consents_missing ? `${one.consents_missing} wanted` : one.word === 'scope' ? 'enough' : 'none wanted'}</td
              >
              <td class={one.stale ? 'text-warning font-semibold' : 'text-soft'}>{one.stale || 'none'}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else}<p class="sheet max-w-xl p-6">
      Clients appear here when their application's scopes or roles are known: from its metadata, its API description, or by hand.
    </p>{/if}
{/if}
