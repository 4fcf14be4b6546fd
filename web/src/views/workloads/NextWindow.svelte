<script lang="ts">
  import { clock } from '../../lib/clock.svelte'
  import When from '../../lib/When.svelte'

  /**
   * When a workload may be changed next. A window that is open begins at the moment of the request,
   * by the desk's clock.
   */
  let { at }: { at: string } = $props()
  const open = $derived(new Date(at).getTime() - clock.now < 60_000)
</script>

{#if open}open now{:else}<When {at} prefix="next " />{/if}
