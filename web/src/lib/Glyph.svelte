<script lang="ts">
  import { glyph } from './glyph'

  let { fits, says }: { fits: string[]; says: string } = $props()
  const shape = $derived(glyph(fits))
</script>

<svg
  role="img"
  aria-label={says}
  width={shape.width}
  height={shape.height}
  viewBox="0 0 {shape.width} {shape.height}"
  class="shrink-0 overflow-visible"
>
  <title>{says}</title>
  <line
    x1="0"
    x2={shape.width}
    y1={shape.middle}
    y2={shape.middle}
    class="stroke-base-300"
    stroke-width="1.5"
  />
  {#each shape.bars as bar (bar.x)}
    {#if bar.fit === 'not_asked'}
      <line
        x1={bar.x}
        x2={bar.x + 6}
        y1={shape.middle}
        y2={shape.middle}
        class="stroke-soft"
        stroke-width="2"
        stroke-dasharray="1.5 1.5"
      />
    {:else}
      {@const hollow = bar.fit === 'not_proven' || bar.fit === 'missing'}
      {#each [[bar.providerY, 'secondary'], [bar.callerY, 'accent']] as const as [y, side] (side)}
        <rect
          x={bar.x + (hollow ? 0.5 : 0)}
          y={y + (hollow ? 0.5 : 0)}
          width={hollow ? 5 : 6}
          height={hollow ? 7 : 8}
          rx="1.5"
          stroke-dasharray={bar.fit === 'not_proven' ? '2 1.2' : undefined}
          class={bar.fit === 'differs'
            ? 'fill-error'
            : bar.fit === 'missing'
              ? 'fill-none stroke-error'
              : hollow
                ? side === 'secondary'
                  ? 'fill-none stroke-secondary'
                  : 'fill-none stroke-accent'
                : side === 'secondary'
                  ? 'fill-secondary'
                  : 'fill-accent'}
        />
      {/each}
    {/if}
  {/each}
</svg>
