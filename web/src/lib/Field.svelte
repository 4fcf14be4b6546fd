<script lang="ts">
  import type { Snippet } from 'svelte'

  let {
    label,
    id,
    help = '',
    where = '',
    error = '',
    notes = [],
    children,
  }: {
    label: string
    id: string
    help?: string
    where?: string
    error?: string
    notes?: string[]
    children: Snippet
  } = $props()
</script>

<div class="mb-3">
  <label class="label-text" for={id}>{label}</label>
  {@render children()}
  {#each notes as note (note)}<p class="text-warning text-[0.93em] font-semibold">{note}</p>{/each}
  {#if error}<p id="{id}-error" role="alert" class="text-error font-semibold">{error}</p>{/if}
  {#if help || where}<p id="{id}-help" class="help">
      {help}{#if where}&nbsp;<span class="text-brass">Where: {where}</span>{/if}
    </p>{/if}
</div>
