<script lang="ts">
  /** What a connection is called, the names it had, and giving it another. */
  import { api, ok, type Connection } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { goto } from '../../router'

  let { connection }: { connection: Connection } = $props()
  const acts = acting('connection', 'workload')
  const params = $derived({ path: { ref: connection.ref } })
  let renaming = $state(false)
  let name = $derived(connection.name)

  async function rename(event: Event): Promise<void> {
    event.preventDefault()
    const made = await acts.run(() =>
      ok(api.POST('/api/connections/{ref}/names', { params, body: { name } })),
    )
    if (made) goto(`/connections/${made.ref}`)
  }
  const end = (former: string) =>
    acts.run(() =>
      ok(
        api.DELETE('/api/connections/{ref}/names/{name}', {
          params: { path: { ref: connection.ref, name: former } },
        }),
      ),
    )
</script>

<section class="sheet p-4" aria-labelledby="name-title">
  <header class="flex items-baseline">
    <h2 id="name-title">Name</h2>
    {#if may('change')}<button class="act ms-auto" onclick={() => (renaming = !renaming)}
        >{renaming ? 'Cancel' : 'Rename'}</button
      >{/if}
  </header>
  {#if renaming}
    <form class="mt-1 flex flex-col gap-2" onsubmit={rename}>
      <label
        ><span class="help">Reference name, the same in each environment</span><input
          class="line-in value"
          bind:value={name}
          aria-invalid={acts.errors.name ? 'true' : undefined}
          required
        /></label
      >
      <p class="help">
        Workloads may still draw by {connection.name} until it has been unused for 30 days.
      </p>
      <p><button class="btn btn-primary btn-sm" disabled={acts.busy}>Rename connection</button></p>
    </form>
  {:else}<p>
      <span class="value">{connection.name}</span>
      <span class="text-soft">for workloads of {connection.environment.name}</span>
    </p>{/if}
  <ProblemBox problem={acts.problem} />
  {#each connection.former_names as former (former.name)}
    <p class="flex min-h-[26px] flex-wrap items-baseline gap-x-3">
      <span class="value">{former.name}</span>
      <span class="text-soft ms-auto text-end"
        >{#if former.used_at}drawn <When at={former.used_at} /> by {former.used_by}{:else}not drawn
          since the change{/if}; ends <When at={former.ends} /></span
      >
      {#if may('change')}<button
          class="act"
          disabled={acts.busy}
          aria-label="End {former.name}"
          onclick={() => end(former.name)}>End former name</button
        >{/if}
    </p>
  {/each}
</section>
