<script lang="ts">
  import type { Schemas } from '../../api/client'
  import When from '../../lib/When.svelte'

  let { rows, client = false }: { rows: Schemas['TurnedOut'][]; client?: boolean } = $props()
</script>

<h3 class="mt-4 mb-1 font-bold">
  Rejected requests <span class="help font-normal">callers are told the same for all of these</span>
</h3>
<table class="rows">
  <thead
    ><tr
      ><th>When</th><th>At</th><th>What was wrong</th>{#if client}<th>Client</th>{/if}<th>From</th
      ></tr
    ></thead
  >
  <tbody>
    {#each rows as one, at (at)}
      <tr>
        <td><When at={one.at} /></td><td class="value">{one.endpoint}</td><td>{one.what}</td>
        {#if client}<td class="value">{one.client || '—'}</td>{/if}<td class="value"
          >{one.address}</td
        >
      </tr>
    {/each}
  </tbody>
</table>
