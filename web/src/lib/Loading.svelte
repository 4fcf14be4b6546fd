<script lang="ts">
  import ProblemBox from './ProblemBox.svelte'

  let { query }: { query: { isPending: boolean; error: unknown } } = $props()
</script>

{#if query.error}<ProblemBox problem={query.error} />{:else if query.isPending}<p
    class="help py-6"
    role="status"
  >
    Reading …
  </p>{/if}
