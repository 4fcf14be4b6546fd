<script lang="ts">
  /** Names that say their environment, and names without it, to be given together. */
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'

  let after = $state('')
  const found = createQuery(() => ({
    queryKey: ['name-proposals', after],
    queryFn: () => ok(api.GET('/api/name-proposals', { params: { query: { after } } })),
  }))
  const acts = acting('connection', 'workload')
  const items = $derived(found.data?.items ?? [])
  const possible = $derived(items.filter((item) => !item.obstacle))
  // Those that are not to be renamed; all others of the page are.
  let left = $state<string[]>([])
  const chosen = $derived(possible.filter((proposal) => !left.includes(proposal.ref)))
  let done = $state<Schemas['RenamedOut'][]>([])

  const apply = () =>
    acts.run(async () => {
      const renamings = chosen.map(({ ref, name }) => ({ ref, name }))
      done = await ok(api.POST('/api/renamings', { body: { renamings } }))
      left = []
    })
  const choose = (ref: string, wanted: boolean) =>
    (left = wanted ? left.filter((proposal) => proposal !== ref) : [...left, ref])
  const renamed = $derived(done.filter((proposal) => !proposal.problem))
</script>

<svelte:head><title>Join names · Neat Latch</title></svelte:head>
<header class="mb-3">
  <h1>Join names</h1>
  <p class="help max-w-3xl">
    Where a name does not say its environment, a job draws by the same name in each, and moves from
    Sandbox to Production unchanged. Workloads may draw by an old name until it has been unused for
    30 days.
  </p>
</header>
<ProblemBox problem={acts.problem} />
{#if done.length}<p role="status" class="mb-3">
    {renamed.length}
    {renamed.length === 1 ? 'connection was' : 'connections were'} renamed.
    {#each done.filter((proposal) => proposal.problem) as proposal (proposal.ref)}<br /><span
        class="value">{proposal.ref}</span
      >
      was not: {proposal.problem}{/each}
  </p>{/if}
<Loading query={found} />
{#if found.data}
  {#if items.length}
    <div class="sheet max-w-4xl overflow-x-auto">
      <table class="rows">
        <thead
          ><tr
            ><th><span class="sr-only">Rename</span></th><th>Reference</th><th>Becomes</th><th
              >Workloads</th
            ></tr
          ></thead
        >
        <tbody>
          {#each items as item (item.ref)}
            <tr>
              <td
                >{#if !item.obstacle && may('change')}<input
                    type="checkbox"
                    aria-label="Rename {item.ref}"
                    checked={!left.includes(item.ref)}
                    onchange={(event) => choose(item.ref, event.currentTarget.checked)}
                  />{/if}</td
              >
              <td><a class="act value" href="/connections/{item.ref}">{item.ref}</a></td>
              <td
                >{#if item.obstacle}<span class="text-soft">stays: {item.obstacle}</span
                  >{:else}<span class="value">{item.becomes}</span>{/if}</td
              >
              <td>{item.workloads}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    <p class="mt-3 flex flex-wrap items-baseline gap-3">
      {#if may('change')}<button
          class="btn btn-primary btn-sm"
          disabled={acts.busy || !chosen.length}
          onclick={apply}
          >Rename {chosen.length} {chosen.length === 1 ? 'connection' : 'connections'}</button
        >{/if}
      {#if found.data.following}<button
          class="btn btn-sm"
          onclick={() => (after = found.data?.following ?? '')}>Show the next ones</button
        >{/if}
    </p>
  {:else if found.data.following}<p>
      None of these. <button class="act" onclick={() => (after = found.data?.following ?? '')}
        >Show the next ones</button
      >
    </p>
  {:else}<p class="sheet max-w-4xl p-5">No connection’s name says its environment.</p>{/if}
{/if}
