<script lang="ts" module>
  import { createQuery } from '@tanstack/svelte-query'
  import { searchParams } from 'sv-router'
  import { api, ok } from '../api/client'
</script>

<script lang="ts">
  /**
   * How a sign-in went that somebody has just come back from, by the address; `hidden`: the page
   * says it otherwise.
   */
  let { hidden = () => false }: { hidden?: (outcome: string) => boolean } = $props()
  const identity = $derived(String(searchParams.get('signed-in') ?? ''))
  const found = createQuery(() => ({
    queryKey: ['sign-in', identity],
    queryFn: () => ok(api.GET('/api/sign-ins/{identity}', { params: { path: { identity } } })),
    enabled: Boolean(identity),
  }))
</script>

{#if found.data?.says && !hidden(found.data.outcome)}
  <p
    role="status"
    class="mb-3 rounded-md px-3 py-2 {found.data.outcome === 'signed_in'
      ? 'bg-slate-ground'
      : 'bg-bad-ground'}"
    data-outcome={found.data.outcome}
  >
    {found.data.says}
    <button class="act ms-3" onclick={() => searchParams.delete('signed-in')}>Close</button>
  </p>
{/if}
