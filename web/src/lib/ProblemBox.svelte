<script lang="ts">
  import { Problem } from '../api/client'

  let { problem }: { problem: unknown } = $props()
  const told = $derived(
    problem instanceof Problem
      ? problem
      : problem
        ? new Problem(0, 'Something went wrong on this page.', String(problem))
        : null,
  )
</script>

{#if told}
  <div role="alert" class="bg-bad-ground rounded-md px-3 py-2">
    <strong>{told.title}</strong>
    {told.detail}
  </div>
{/if}
