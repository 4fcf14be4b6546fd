<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Loading from '../../lib/Loading.svelte'
  import { paged } from '../../lib/paged.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { goto, param } from '../../router'
  import Changes from './Changes.svelte'
  import { outcomeOf, progressOf, sizeOf } from '../../lib/imports'

  const acts = acting('everything')
  const identity = $derived(param('id'))
  const path = $derived({ params: { path: { identity } } })
  const found = createQuery(() => ({
    queryKey: ['import', identity],
    queryFn: () => ok(api.GET('/api/inventory/imports/{identity}', path)),
    refetchInterval: (query) => (query.state.data && !query.state.data.ended ? 1500 : 20_000),
  }))
  const steps = paged(
    () => ['import-steps', identity, found.data?.ended ?? ''],
    (cursor) =>
      ok(
        api.GET('/api/inventory/imports/{identity}/steps', {
          params: { path: { identity }, query: { cursor } },
        }),
      ),
  )
  let preview = $state<Schemas['InventoryPreviewOut'] | null>(null)
  const look = () =>
    acts.run(async () => {
      preview = await ok(api.POST('/api/inventory/imports/{identity}/undo-previews', path))
    })
  async function undo(): Promise<void> {
    const begun = await acts.run(() =>
      ok(
        api.POST('/api/inventory/imports/{identity}/undos', {
          ...path,
          body: { standing: preview!.standing },
        }),
      ),
    )
    if (!begun) return
    preview = null
    if (begun.plan) goto(`/inventory/imports/${begun.plan.id}`)
  }
  const stop = () =>
    acts.run(
      () => ok(api.POST('/api/inventory/imports/{identity}/stops', path)),
      ['import', identity],
    )
</script>

<svelte:head><title>Import · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  {@const plan = found.data}
  <header class="mb-3 flex flex-wrap items-center gap-4">
    <h1>{plan.undoes ? 'Undo of an import' : 'Import'}</h1>
    <span class="help"
      ><When at={plan.begun} prefix="begun " past /> by {plan.by}; {sizeOf(plan)}</span
    >
    <span class="ms-auto flex gap-2">
      {#if !plan.ended && may('change')}<button
          class="btn btn-sm"
          disabled={acts.busy}
          onclick={stop}>Stop import</button
        >{/if}
      {#if plan.may_undo && may('change')}<button
          class="btn btn-sm"
          disabled={acts.busy}
          onclick={look}>Undo import …</button
        >{/if}
    </span>
  </header>
  <div class="mb-3" role="status">
    <progress
      class="progress progress-primary w-full"
      aria-label="Changes that are applied"
      value={plan.done}
      max={plan.total}
    ></progress>
    <p>{progressOf(plan)}{outcomeOf(plan)}.</p>
  </div>
  {#if plan.undoes}<p class="mb-3">
      <a class="act" href="/inventory/imports/{plan.undoes}">The import that this undoes</a>
    </p>{/if}
  {#if plan.problem}<p role="alert" class="bg-bad-ground mb-3 rounded-md px-3 py-2">
      <strong>It stopped.</strong> What was applied stays until you undo it. To go on, mend the file
      and apply it again. {plan.problem}
    </p>{/if}
  {#if acts.problem}<div class="mb-3"><ProblemBox problem={acts.problem} /></div>{/if}
  {#if preview}
    <div class="mb-4" aria-live="polite">
      <Changes {preview}>
        <button class="btn btn-primary btn-sm" disabled={acts.busy} onclick={undo}
          >Undo import</button
        >
        <button class="btn btn-sm" onclick={() => (preview = null)}>Cancel</button>
      </Changes>
      <p class="help mt-1">
        What was changed since stays. A secret whose credential the import removed is not in the
        inventory: put it in again.
      </p>
    </div>
  {/if}
  <Loading query={steps.query} />
  {#if steps.rows.length}
    <div class="sheet overflow-x-auto">
      <table class="rows">
        <thead
          ><tr><th>Step</th><th>What</th><th>Change</th><th>Applied</th><th>In words</th></tr
          ></thead
        >
        <tbody>
          {#each steps.rows as step (step.number)}
            {@const applied = step.number <= plan.done}
            <tr data-row>
              <td class="text-soft">{step.number}</td>
              <td
                ><span class="help">{step.kind}</span>
                <span class="value wrap-anywhere">{step.key}</span></td
              >
              <td class={step.act === 'remove' ? 'text-error font-semibold' : ''}>{step.act}</td>
              <td class={applied ? 'text-success' : 'text-soft'}>{applied ? '✓ yes' : 'not yet'}</td
              >
              <td class="wrap-anywhere"
                >{step.says.slice(0, 3).join('; ')}{step.says.length > 3 ? '; …' : ''}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if steps.query.hasNextPage}<button
        class="btn btn-sm mt-3"
        onclick={() => steps.query.fetchNextPage()}>Show more</button
      >{/if}
  {/if}
{/if}
