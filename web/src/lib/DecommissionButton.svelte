<script lang="ts">
  /** Leads to the page on which an object is decommissioned. */
  import { api, ok, type Schemas } from '../api/client'
  import { acting } from './acting.svelte'
  import ProblemBox from './ProblemBox.svelte'
  import { goto } from '../router'

  let {
    of,
    id,
    name,
    look = 'btn btn-sm',
  }: { of: Schemas['DecommissionIn']['of']; id: string; name: string; look?: string } = $props()
  const acts = acting('decommissioning')
  async function begin(): Promise<void> {
    const begun = await acts.run(() =>
      ok(api.POST('/api/decommissionings', { body: { of, key: id } })),
    )
    if (begun) goto(`/decommissioning/${begun.id}`)
  }
</script>

<button
  type="button"
  class={look}
  disabled={acts.busy}
  aria-label="Decommission {name}"
  onclick={begin}>Decommission</button
>
<ProblemBox problem={acts.problem} />
