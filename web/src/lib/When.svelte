<script lang="ts">
  import { clock } from './clock.svelte'
  import { exact, fromNow } from './time'

  /** ``past``: it lies behind us, even where the clocks of desk and browser differ by seconds. */
  let {
    at,
    prefix = '',
    past = false,
  }: { at: string | null | undefined; prefix?: string; past?: boolean } = $props()
  // The shared clock moves every ten seconds; what is shown anew is told by the moment itself.
  const now = $derived(Math.max(clock.now, Date.now(), past && at ? new Date(at).getTime() : 0))
</script>

{#if at}<time datetime={at} title={exact(at)}>{prefix}{fromNow(at, now)}</time>{/if}
