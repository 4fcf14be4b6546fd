<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import SubNav from '../../lib/SubNav.svelte'

  const list = createQuery(() => ({ queryKey: ['access-rules'], queryFn: () => ok(api.GET('/api/access-rules')) }))
</script>

<svelte:head><title>Access rules · Neat Latch</title></svelte:head>
<SubNav group="applications" />
<header class="mb-3 flex items-baseline gap-4">
  <h1>Access rules</h1>
  <span class="help">who may do what, by rules or by roles</span>
</header>
<Loading query={list} />
{#if list.data}
  {#if list.data.length}
    <div class="sheet overflow-x-auto">
      <table class="rows">
        <thead
          ><tr><th>Application</th><th>Environment</th><th>Decided by</th><th>Rules</th><th>Never decide</th><th>There</th></tr
          ></thead
        >
        <tbody>
          {#each list.data as one (one.application + one.environment.key)}
            <tr data-row>
              <td><a class="act" href="/access-rules/{one.application}/{one.environment.key}">{one.application_name}</a></td>
              <td><EnvBadge environment={one.environment} /></td>
              <td>{one.derived ? 'roles of accounts' : 'rules'}</td>
              <td>{one.rules}</td>
              <td class={one.idle ? 'text-warning font-semibold' : 'text-soft'}
                >{one.idle === null ? 'too many rules to tell' : one.idle || 'none'}</td
              >
              <td class={one.differs ? 'text-error font-semibold' : 'text-soft'}
                >{one.derived ? 'as its screens say' : one.differs ? 'differs from ours' : 'no difference seen'}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else}<p class="sheet max-w-xl p-6">
      Applications appear here when their profile names roles, or a place where access rules can be read and written.
    </p>{/if}
{/if}
