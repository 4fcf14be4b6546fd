<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query'
  import { api, ok } from '../api/client'
  import { route } from '../router'
  import { progressOf } from './imports'

  /**
   * On every page, while an inventory is being applied: how far it is. What is shown is read anew
   * when it has ended.
   */
  const queries = useQueryClient()
  const found = createQuery(() => ({
    queryKey: ['import-open'],
    queryFn: () => ok(api.GET('/api/inventory/imports/open')),
    refetchInterval: (query) => (query.state.data?.plan ? 1500 : 20_000),
  }))
  const plan = $derived(found.data?.plan ?? null)
  let before = ''
  $effect(() => {
    const now = plan?.id ?? ''
    if (before && !now) void queries.invalidateQueries()
    before = now
  })
</script>

{#if plan && route.pathname !== `/inventory/imports/${plan.id}`}
  <section
    class="bg-wait-ground mb-3 flex flex-wrap items-center gap-3 rounded-md px-3 py-2"
    aria-label="Import"
  >
    <strong>{plan.undoes ? 'An import is being undone' : 'An inventory is being applied'}</strong>
    <span role="status">{progressOf(plan)}</span>
    <progress
      class="progress progress-primary w-40"
      aria-label="Changes that are applied"
      value={plan.done}
      max={plan.total}
    ></progress>
    <span class="help">by {plan.by}; the objects in it cannot be changed until it has finished</span
    >
    <a class="act ms-auto" href="/inventory/imports/{plan.id}">Show it</a>
  </section>
{/if}
