<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import Loading from '../../lib/Loading.svelte'
  import When from '../../lib/When.svelte'

  const found = createQuery(() => ({
    queryKey: ['health'],
    queryFn: () => ok(api.GET('/api/health')),
    refetchInterval: 15_000,
  }))
  const STATES: Record<string, [string, string]> = {
    good: ['OK', 'text-success'],
    warning: ['attention', 'text-brass'],
    bad: ['does not work', 'text-error'],
  }
</script>

<svelte:head><title>Health · Neat Latch</title></svelte:head>
<header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
  <h1>Health</h1>
  <span class="help"
    >of Neat Latch itself{#if found.data}, <When at={found.data.at} />{/if}; load balancers ask at
    <span class="value">/alive</span></span
  >
</header>
<Loading query={found} />
{#if found.data}
  <div class="sheet max-w-4xl overflow-x-auto">
    <table class="rows">
      <thead><tr><th>Part</th><th>State</th><th>What is seen</th></tr></thead>
      <tbody>
        {#each found.data.checks as check (check.key)}
          {@const [says, look] = STATES[check.state] ?? [check.state, '']}
          <tr data-check={check.key}>
            <td class="whitespace-nowrap">{check.name}</td>
            <td class="font-semibold whitespace-nowrap {look}">{says}</td>
            <td
              >{check.says}{#if check.act}<br /><span class="text-soft">{check.act}</span>{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
