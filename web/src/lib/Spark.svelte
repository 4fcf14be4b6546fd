<script lang="ts">
  import { spark } from './spark'

  /** The last tests, oldest first, in milliseconds; below zero where one failed. */
  let { recent }: { recent: number[] } = $props()
  const shape = $derived(spark(recent, 80, 24))
</script>

{#if recent.length}
  <svg
    role="img"
    aria-label={shape.says}
    viewBox="0 0 80 24"
    preserveAspectRatio="none"
    class="h-6 w-20 max-w-full"
  >
    <title>{shape.says}</title>
    <path d={shape.path} class="stroke-soft fill-none" stroke-width="1.4" stroke-linejoin="round" />
    {#each shape.failures as failure (failure.x)}
      <path
        d="M{failure.x - 2.5} {failure.y - 2.5} l5 5 m0 -5 l-5 5"
        class="stroke-error"
        stroke-width="1.6"
      />
    {/each}
  </svg>
{/if}
