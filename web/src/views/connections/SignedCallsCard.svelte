<script lang="ts">
  /** Calls that the application signs: what they are checked with, and what came of it. */
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Connection } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import Handover from '../clients/Handover.svelte'

  let { connection, put }: { connection: Connection; put: () => void } = $props()
  const params = $derived({ path: { ref: connection.ref } })
  const found = createQuery(() => ({
    queryKey: ['signed-calls', connection.ref, connection.version],
    queryFn: () => ok(api.GET('/api/connections/{ref}/signed-calls', { params })),
    refetchInterval: 10000,
  }))
  const acts = acting('connection', 'credential')
  /** The secret that was just made here, and is shown once. */
  let handover = $state<string | null>(null)
  async function make(): Promise<void> {
    const made = await acts.run(() =>
      ok(api.POST('/api/connections/{ref}/signing-secrets', { params })),
    )
    if (made) handover = made.handover
  }
</script>

<section class="sheet p-4" aria-labelledby="signed-title">
  <h2 id="signed-title">Signed calls in</h2>
  {#if found.data}
    {@const calls = found.data}
    <p class="help">
      {connection.application_name} signs what it sends, in
      <span class="value">{calls.signature}</span>. A workload has a call checked here and never
      holds the secret.
    </p>
    {#each calls.held as secret (secret.credential)}
      <p class="flex min-h-[26px] items-baseline gap-3">
        <a class="value hover:underline" href="/credentials/{secret.credential}">{secret.hint}</a>
        <span class="text-soft ms-auto text-end"
          >{#if calls.held.length > 1}{secret.state} ·
          {/if}put in <When at={secret.put_in} />
          {#if secret.ends}· expires <When at={secret.ends} />{/if}
          {#if calls.held.length === 1 && may('change')}· <a
              class="act"
              href="/credentials/{secret.credential}?act=replace">replace</a
            >{/if}</span
        >
      </p>
    {:else}
      <p class="text-warning">No signing secret is held: no call can be checked.</p>
      {#if may('change')}<p class="flex flex-wrap gap-x-4">
          <button class="act" onclick={put}>Put in the signing secret</button>
          <button class="act" disabled={acts.busy} onclick={() => void make()}
            >Make one, to enter it there</button
          >
        </p>{/if}
    {/each}
    <Handover id={handover} signing done={() => (handover = null)} />
    <ProblemBox problem={acts.problem} />
    {#if calls.accepted_at}<p>
        <span class="text-success">Accepted</span>
        {calls.accepted} · <When at={calls.accepted_at} />
      </p>{/if}
    {#if calls.rejected_at}<p>
        <span class="text-error font-semibold">Rejected</span>
        {calls.rejected} · <When at={calls.rejected_at} />
        <span class="text-soft block">{calls.rejected_says}</span>
      </p>{/if}
    {#if !calls.accepted_at && !calls.rejected_at}<p class="help">
        No call has been checked yet.
      </p>{/if}
    {#each calls.checked_for as workload (workload.workload)}
      <p class="flex min-h-[26px] items-baseline gap-3">
        <span
          >for <a class="hover:underline" href="/workloads/{workload.workload}">{workload.name}</a
          ></span
        >
        <span class="text-soft ms-auto"><When at={workload.last} /></span>
      </p>
    {/each}
  {/if}
</section>
