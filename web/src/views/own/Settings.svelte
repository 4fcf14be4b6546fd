<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import Loading from '../../lib/Loading.svelte'

  const found = createQuery(() => ({
    queryKey: ['settings'],
    queryFn: () => ok(api.GET('/api/settings')),
  }))
</script>

<svelte:head><title>Settings · Neat Latch</title></svelte:head>
<header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
  <h1>Settings</h1>
  <span class="help"
    >They are set where Neat Latch is started: as variables of its environment, or by options of
    <span class="value">nlatch serve</span>.</span
  >
</header>
<Loading query={found} />
{#if found.data}
  <div class="sheet overflow-x-auto">
    <table class="rows">
      <thead><tr><th>Setting</th><th>Value</th><th>Comes from</th><th>Meaning</th></tr></thead>
      <tbody>
        {#each found.data.items as setting (setting.name)}
          <tr>
            <td class="value">{setting.name}</td>
            <td class="value max-w-md [overflow-wrap:anywhere]"
              >{setting.secret
                ? setting.is_set
                  ? 'set, not shown'
                  : 'not set'
                : setting.value}</td
            >
            <td class="whitespace-nowrap">{setting.is_set ? 'the start' : 'usual'}</td>
            <td>{setting.meaning}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
