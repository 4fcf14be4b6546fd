<script lang="ts">
  import { FITS } from './words'

  let { fit, label }: { fit: string; label: string } = $props()
  const off = $derived(fit === 'differs' ? 17 : 0)
</script>

<!-- The two bars of one pin, meeting at the shear line in the middle (x = 50). -->
<svg
  role="img"
  aria-label="{label} {FITS[fit]}"
  width="100"
  height="20"
  viewBox="0 0 100 20"
  class="relative max-w-full overflow-visible"
>
  {#if fit === 'not_asked'}
    <line
      x1="24"
      x2="76"
      y1="10"
      y2="10"
      class="stroke-soft"
      stroke-width="1.5"
      stroke-dasharray="2 2"
    />
  {:else if fit === 'not_proven' || fit === 'missing'}
    <rect
      x="11"
      y="5.5"
      width="37"
      height="9"
      rx="2.5"
      stroke-dasharray="4 2"
      class="fill-none {fit === 'missing' ? 'stroke-error' : 'stroke-secondary'}"
      stroke-width="1.5"
    />
    <rect
      x="52"
      y="5.5"
      width="37"
      height="9"
      rx="2.5"
      stroke-dasharray="4 2"
      class="fill-none {fit === 'missing' ? 'stroke-error' : 'stroke-accent'}"
      stroke-width="1.5"
    />
  {:else}
    <rect x="10" y="5" width={38.5 + off} height="10" rx="2.5" class="fill-secondary" />
    <rect x={51.5 + off} y="5" width="38.5" height="10" rx="2.5" class="fill-accent" />
    {#if fit === 'differs'}
      <path
        d="M44 1 L56 19 M56 1 L44 19"
        class="stroke-error"
        stroke-width="2.5"
        stroke-linecap="round"
      />
    {/if}
  {/if}
</svg>
