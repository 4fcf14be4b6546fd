<script lang="ts">
  import type { Schemas } from '../../api/client'
  import When from '../../lib/When.svelte'

  let { rows, client = false }: { rows: Schemas['RejectedRequestOut'][]; client?: boolean } =
    $props()
</script>

<h3 class="mt-4 mb-1 font-bold">
  Rejected requests <span class="help font-normal"
    >callers get the same answer for all of these</span
  >
</h3>
<table class="rows">
  <thead
    ><tr
      ><th>When</th><th>At</th><th>What was wrong</th>{#if client}<th>Client</th>{/if}<th>From</th
      ></tr
    ></thead
  >
  <tbody>
    {#each rows as row, at (at)}
      <tr>
        <td><When at={row.at} /></td><td class="value">{row.endpoint}</td><td>{row.what}</td>
        {#if client}<td class="value">{row.client || '—'}</td>{/if}<td class="value"
          >{row.address}</td
        >
      </tr>
    {/each}
  </tbody>
</table>
