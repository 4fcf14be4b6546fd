<script lang="ts">
  import { api, ok, type Client } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import CopyLine from '../../lib/CopyLine.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'

  let { client, notes }: { client: Client; notes: string[] } = $props()
  const acts = acting('client')
  let typed = $state('')
  let said = $state<string[]>([])
  const done = $derived(client.steps.filter((step) => step.done).length)

  async function tick(key: string, on: boolean): Promise<void> {
    const params = { path: { identity: client.id } }
    const body = { key, done: on }
    const ticked = await acts.run(
      () => ok(api.POST('/api/clients/{identity}/completed-steps', { params, body })),
      ['client', client.id],
    )
    if (!ticked) await acts.read()
  }
  async function enter(event: Event): Promise<void> {
    event.preventDefault()
    const params = { path: { identity: client.id } }
    const body = { client_id: typed }
    // What was cleaned off is told once, here: it is no part of the client that is read.
    const answer = await acts.run(() =>
      ok(api.POST('/api/clients/{identity}/client-ids', { params, body })),
    )
    if (!answer) return
    said = answer.notes ?? []
    typed = ''
  }
</script>

<section class="sheet p-4" aria-labelledby="steps-title">
  <h2 id="steps-title">
    In the screens of {client.application_name}
    <span class="help font-normal">{done} of {client.steps.length} done; the ticks stay</span>
  </h2>
  <ol class="mt-2">
    {#each client.steps as step, place (step.key)}
      <li class="mb-2 flex items-start gap-3">
        <input
          type="checkbox"
          class="mt-1 h-[18px] w-[18px]"
          checked={step.done}
          disabled={!may('change')}
          aria-label="Step {place + 1} done: {step.says}"
          onchange={(e) => tick(step.key, e.currentTarget.checked)}
        />
        <div class="min-w-0">
          <p>{place + 1}. {step.says}</p>
          {#if step.copy_text}<CopyLine text={step.copy_text} what={step.says} />{/if}
          {#if step.key === 'client_id' && may('change')}
            <form class="mt-1 flex gap-2" onsubmit={enter}>
              <input
                class="line-in value w-72"
                aria-label="Client ID"
                placeholder={client.client_id || 'paste the client ID'}
                bind:value={typed}
              />
              <button class="btn btn-primary btn-sm" disabled={!typed}>Enter value</button>
            </form>
            {#each [...said, ...notes] as note (note)}<p class="text-warning font-semibold">
                {note}
              </p>{/each}
          {/if}
        </div>
      </li>
    {/each}
  </ol>
  <ProblemBox problem={acts.problem} />
</section>
