<script lang="ts">
  /** Our drawing and name; within the log-in it leads to Today. */
  let { leads = true }: { leads?: boolean } = $props()
  const look = 'flex items-center gap-2 text-[1.15rem] font-bold whitespace-nowrap'
</script>

{#snippet drawn(hides: string)}
  <svg width="44" height="20" viewBox="0 0 44 20" aria-hidden="true">
    {#each [0, 1, 2, 3] as place (place)}
      <rect x={2 + place * 11} y="1" width="7" height="8" rx="1.5" class="fill-secondary" />
      <rect x={2 + place * 11} y="11" width="7" height="8" rx="1.5" class="fill-slate-ground" />
    {/each}
  </svg>
  <span class={hides}>Neat Latch</span>
{/snippet}

{#if leads}
  <a href="/" class="{look} lg:pe-4" aria-label="Neat Latch, to Today"
    >{@render drawn('max-sm:sr-only')}</a
  >
{:else}
  <span class="{look} min-h-[54px]">{@render drawn('')}</span>
{/if}
