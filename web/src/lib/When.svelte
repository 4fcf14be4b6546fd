<script lang="ts">
  import { clock } from './clock.svelte'
  import { exact, fromNow } from './time'

  let { at, prefix = '' }: { at: string | null | undefined; prefix?: string } = $props()
</script>

{#if at}<time datetime={at} title={exact(at)}>{prefix}{fromNow(at, clock.now)}</time>{/if}
