<script lang="ts">
  import { Problem } from '../api/client'
  import NotThere from './NotThere.svelte'
  import ProblemBox from './ProblemBox.svelte'

  let { query }: { query: { isPending: boolean; error: unknown } } = $props()
  const missing = $derived(
    query.error instanceof Problem && query.error.status === 404 ? query.error : null,
  )
</script>

{#if missing}<NotThere
    title={missing.title.replace(/\.$/, '')}
    says={missing.detail}
    candidates={(missing.extra.candidates as string[] | undefined) ?? []}
  />
{:else if query.error}<ProblemBox problem={query.error} />{:else if query.isPending}<p
    class="help py-6"
    role="status"
  >
    Reading …
  </p>{/if}
