<script lang="ts">
  import { api, ok, type Connection } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import OwnerField from '../../lib/OwnerField.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'

  let { connection }: { connection: Connection } = $props()
  const acts = acting('connection', 'workload')
  const EMPTY = { name: '', kind: 'job', owner: '', runs: '', operations: [] as string[] }
  let adding = $state(false)
  let form = $state({ ...EMPTY })
  const errors = $derived(acts.errors)

  async function add(event: Event): Promise<void> {
    event.preventDefault()
    const params = { path: { ref: connection.ref } }
    await acts.run(async () => {
      await ok(api.POST('/api/connections/{ref}/workloads', { params, body: form }))
      form = { ...EMPTY }
      adding = false
    })
  }
  async function takeOff(id: number): Promise<void> {
    const params = { path: { ref: connection.ref, identity: id } }
    await acts.run(() => ok(api.DELETE('/api/connections/{ref}/workloads/{identity}', { params })))
  }
</script>

<section class="sheet p-4" aria-labelledby="workloads-title" id="workloads" tabindex="-1">
  <header class="flex items-baseline">
    <h2 id="workloads-title">Used by</h2>
    {#if may('change')}<button class="act ms-auto" onclick={() => (adding = !adding)}
        >{adding ? 'Cancel' : 'Add workload'}</button
      >{/if}
  </header>
  {#each connection.workloads_of as workload (workload.id)}
    <div
      class="group flex min-h-[26px] items-baseline gap-3"
      title="{workload.kind}, {workload.owner || 'no owner'}: {workload.operations.join(', ')}"
    >
      <a class="hover:underline" href="/workloads/{workload.workload}">{workload.name}</a>
      <span
        class="ms-auto text-end {workload.lacks.length ? 'text-error font-semibold' : 'text-soft'}"
        >{workload.lacks.length
          ? `needs ${workload.lacks.join(' ')}`
          : workload.runs || workload.kind}</span
      >
      {#if may('change')}<button
          class="text-soft min-h-[24px] min-w-[24px]"
          aria-label="Take {workload.name} off"
          onclick={() => takeOff(workload.id)}>×</button
        >{/if}
    </div>
  {:else}<p class="help">
      It has no workload. Add the jobs and reports that use it, so that you know what would stop.
    </p>{/each}
  {#if adding}
    <form class="mt-2 flex flex-col gap-2" onsubmit={add}>
      <input
        class="line-in"
        aria-label="Name of the workload"
        placeholder="Night manifest run"
        bind:value={form.name}
      />
      {#if errors.name}<p role="alert" class="text-error font-semibold">{errors.name}</p>{/if}
      <div class="flex gap-2">
        <select class="line-in" aria-label="Kind" bind:value={form.kind}
          >{#each ['job', 'report', 'script', 'agent'] as kind (kind)}<option>{kind}</option
            >{/each}</select
        >
        <input
          class="line-in"
          aria-label="When it runs"
          placeholder="02:10 daily"
          bind:value={form.runs}
        />
      </div>
      <OwnerField id="workload-owner" label="Owner" placeholder="owner" bind:value={form.owner} />
      {#each connection.operations as operation (operation)}
        <label class="flex min-h-[24px] items-center gap-2"
          ><input type="checkbox" value={operation} bind:group={form.operations} />
          <span class="value">{operation}</span></label
        >
      {/each}
      <button class="btn btn-primary btn-sm">Add workload</button>
    </form>
  {/if}
  <ProblemBox problem={acts.problem} />
</section>
