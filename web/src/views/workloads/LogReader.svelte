<script lang="ts">
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'

  let { workload, use, done }: { workload: string; use: number; done: () => void } = $props()
  const acts = acting('workload')
  let text = $state('')
  let seen = $state<Schemas['SeenOut'] | null>(null)
  const path = $derived({ path: { identity: workload, number: use } })

  async function read(event: Event): Promise<void> {
    event.preventDefault()
    await acts.run(
      async () =>
        (seen = await ok(
          api.POST('/api/workloads/{identity}/uses/{number}/logs', {
            params: path,
            body: { text },
          }),
        )),
    )
  }
  const take = (only_seen: boolean) =>
    acts
      .run(() =>
        ok(
          api.POST('/api/workloads/{identity}/uses/{number}/observed-operations', {
            params: path,
            body: { text, only_seen },
          }),
        ),
      )
      .then(() => {
        if (!acts.problem) done()
      })
  async function drop(event: DragEvent): Promise<void> {
    const file = event.dataTransfer?.files[0]
    if (!file) return
    event.preventDefault()
    text = await file.text()
  }
</script>

<form class="border-base-300 mt-2 border-t pt-2" onsubmit={read}>
  <label class="label-text" for="log-{use}">What it was seen to call</label>
  <p class="help">
    An access log, a HAR file, or lines like “GET /manifests”. Nothing of it is kept but the names
    of operations.
  </p>
  <textarea
    id="log-{use}"
    class="line-in value"
    rows="4"
    spellcheck="false"
    bind:value={text}
    ondrop={drop}></textarea>
  <div class="mt-2 flex gap-3">
    <button class="btn btn-sm" disabled={acts.busy || !text.trim()}>Read log</button>
    <button type="button" class="btn btn-sm" onclick={done}>Cancel</button>
  </div>
</form>
<ProblemBox problem={acts.problem} />
{#if seen}
  <div class="mt-2" aria-live="polite">
    <p>
      {seen.lines} lines{seen.unread ? `, ${seen.unread} of them no calls` : ''}.
      {seen.operations.length} of its operations were called:
    </p>
    {#each seen.operations as operation (operation.name)}<p>
        <span class="value">{operation.name}</span>
        <span class="text-soft">{operation.count} ×</span>
        {#if seen.not_recorded.includes(operation.name)}<span class="text-warning font-semibold"
            >not recorded yet</span
          >{/if}
      </p>{/each}
    {#each seen.not_seen as operation (operation)}<p>
        <span class="value">{operation}</span> <span class="text-soft">recorded, but not seen</span>
      </p>{/each}
    {#if seen.others.length}<p class="help">
        Not operations of this application: {seen.others
          .map((operation) => `${operation.name} (${operation.count})`)
          .join(', ')}
      </p>{/if}
    {#if seen.operations.length}<div class="mt-2 flex gap-3">
        <button class="btn btn-primary btn-sm" onclick={() => take(false)}>Add what was seen</button
        >
        <button class="btn btn-sm" onclick={() => take(true)}>Only what was seen</button>
      </div>{/if}
  </div>
{/if}
