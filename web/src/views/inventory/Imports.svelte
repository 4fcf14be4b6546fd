<script lang="ts">
  import { api, ok } from '../../api/client'
  import Loading from '../../lib/Loading.svelte'
  import { paged } from '../../lib/paged.svelte'
  import When from '../../lib/When.svelte'
  import { progressOf, stateOf } from '../../lib/imports'

  /** What was applied, newest first. */
  const list = paged(
    () => ['imports'],
    (cursor) => ok(api.GET('/api/inventory/imports', { params: { query: { cursor } } })),
  )
</script>

<section class="sheet p-4" aria-labelledby="imports">
  <h2 id="imports" class="mb-1">Imports</h2>
  <Loading query={list.query} />
  {#each list.rows as plan (plan.id)}
    <p class="border-base-300 border-b py-1">
      <a class="act" href="/inventory/imports/{plan.id}"
        >{plan.undoes ? 'Undo' : 'Import'}, <When at={plan.begun} past /></a
      >
      <span class="help block">{stateOf(plan)}, by {plan.by}; {progressOf(plan)}</span>
    </p>
  {:else}{#if list.query.data}<p class="help">
        Nothing was applied in the last 30 days. What is applied can be undone here.
      </p>{/if}{/each}
  {#if list.query.hasNextPage}<button
      class="btn btn-sm mt-2"
      onclick={() => list.query.fetchNextPage()}>Show more</button
    >{/if}
</section>
