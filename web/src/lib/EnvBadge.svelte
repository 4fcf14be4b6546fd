<script lang="ts">
  import type { Environment } from '../api/client'

  let { environment }: { environment: Environment } = $props()
  const LOOKS: Record<string, string> = {
    dashed: 'border-accent text-slate border border-dashed',
    striped: 'striped text-brass border border-transparent',
  }
  const look = $derived(
    LOOKS[environment.look] ?? 'bg-slate-ground text-slate border border-transparent',
  )
</script>

<!-- Environments differ in border and pattern, not only in colour. -->
<span class="inline-block rounded px-2 py-px text-[0.93em] font-semibold whitespace-nowrap {look}"
  >{environment.name}</span
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
