<script lang="ts">
  import type { Environment } from '../api/client'

  let { environment }: { environment: Environment } = $props()
</script>

<!-- Environments differ in border and pattern, not only in colour. -->
<span
  class="inline-block rounded px-2 py-px text-[0.93em] font-semibold whitespace-nowrap {environment.look ===
  'dashed'
    ? 'border-accent text-slate border border-dashed'
    : environment.look === 'striped'
      ? 'striped text-brass border border-transparent'
      : 'bg-slate-ground text-slate border border-transparent'}">{environment.name}</span
>

<style>
  .striped {
    background: repeating-linear-gradient(
      -45deg,
      var(--color-brass-ground) 0 6px,
      color-mix(in oklab, var(--color-brass-ground) 60%, var(--color-base-100)) 6px 12px
    );
  }
</style>
