<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, once, Problem } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import { download } from '../../lib/files'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import SigningRequest from '../../lib/SigningRequest.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import Handover from '../clients/Handover.svelte'

  let {
    id,
    name,
    programs,
  }: { id: string; name: string; programs: { client: string; name: string }[] } = $props()
  const acts = acting('workload', 'credential')
  const sent = once()
  const path = $derived({ path: { identity: id } })
  const keys = createQuery(() => ({
    queryKey: ['own-keys', id],
    queryFn: () => ok(api.GET('/api/workloads/{identity}/keys', { params: path })),
  }))
  const draws = createQuery(() => ({
    queryKey: ['draws-of-workload', id],
    queryFn: () => ok(api.GET('/api/workloads/{identity}/draws', { params: path })),
    refetchInterval: 10000,
  }))
  const drawables = createQuery(() => ({
    queryKey: ['drawables-of-workload', id],
    queryFn: () => ok(api.GET('/api/workloads/{identity}/drawables', { params: path })),
  }))
  const KINDS: Record<string, string> = {
    key: 'a key',
    client: 'a client',
    certificate: 'a certificate',
  }
  let adding = $state(false)
  let taking = $state('')
  let form = $state({ kind: 'key', right: 'relay' as 'relay' | 'draw', addresses: '', request: '' })
  let pem = $state('')
  const errors = $derived(acts.problem instanceof Problem ? acts.problem.errors : {})

  const give = (event: Event) => {
    event.preventDefault()
    void acts.run(async () => {
      const body = {
        kind: form.kind,
        right: form.right,
        request: form.kind === 'certificate' ? form.request : '',
        addresses: form.addresses.split(/[\s,]+/).filter(Boolean),
      }
      const headers = sent.headers([path, body])
      const made = await ok(
        api.POST('/api/workloads/{identity}/keys', { params: path, body, headers }),
      )
      sent.over()
      adding = false
      pem = made.pem
      form = { kind: 'key', right: 'relay', addresses: '', request: '' }
    })
  }
  const takeAway = (client: string) =>
    acts.run(async () => {
      await ok(
        api.DELETE('/api/workloads/{identity}/keys/{client}', {
          params: { path: { identity: id, client } },
        }),
      )
      taking = ''
    })
</script>

<section class="sheet p-4" aria-labelledby="draws-with">
  <header class="flex items-baseline">
    <h2 id="draws-with">What it draws with</h2>
    {#if may('change')}<button class="act ms-auto" onclick={() => (adding = !adding)}
        >{adding ? 'Cancel' : 'Add key'}</button
      >{/if}
  </header>
  <Loading query={keys} />
  {#if adding}
    <form class="my-2" onsubmit={give}>
      <Field id="own-kind" label="What">
        <select id="own-kind" class="line-in" bind:value={form.kind}>
          <option value="key">A key of its own</option><option value="client"
            >A client that gets short-lived tokens</option
          ><option value="certificate">A certificate, presented at the TLS listener</option>
        </select>
      </Field>
      {#if form.kind === 'certificate'}<SigningRequest
          id="own-request"
          bind:value={form.request}
          error={errors.request}
          help="If the workload's machine makes the key. Empty: made here and handed over once."
        />{/if}
      <Field
        id="own-addresses"
        label="Only from these addresses"
        error={errors.addresses}
        help="Addresses or networks; empty: from anywhere."
      >
        <input
          id="own-addresses"
          class="line-in value"
          placeholder="203.0.113.40/29"
          bind:value={form.addresses}
        />
      </Field>
      <fieldset class="mb-3">
        <legend class="label-text">What it may</legend>
        <label class="flex min-h-[26px] items-baseline gap-2"
          ><input type="radio" name="right" value="relay" bind:group={form.right} /><span
            >Send requests through the relay only. No credential of an application reaches it.</span
          ></label
        >
        <label class="flex min-h-[26px] items-baseline gap-2"
          ><input type="radio" name="right" value="draw" bind:group={form.right} /><span
            >Draw headers too, and send its requests itself.</span
          ></label
        >
      </fieldset>
      {#if form.right === 'draw'}
        {#each drawables.data ?? [] as drawable (drawable.ref)}
          <p class="help {drawable.hands_out === 'secret' ? 'text-error' : ''}">
            <span class="value">{drawable.ref}</span> hands out {drawable.says}.
          </p>
        {:else}<p class="help">What it gets is said here once it uses a connection.</p>{/each}
      {/if}
      <button class="btn btn-primary btn-sm" disabled={acts.busy}>Issue key</button>
    </form>
  {/if}
  <ProblemBox problem={acts.problem} />
  {#if pem}<p class="bg-quiet-ground my-2 rounded-md px-3 py-2">
      Its certificate is issued; its key stays where it was made.
      <button class="act" onclick={() => download('certificate.pem', pem)}
        >Download the chain (PEM)</button
      >
    </p>{/if}
  {#each programs as program (program.client)}
    <p class="border-base-300 flex flex-wrap items-baseline gap-x-2 border-b py-2 last:border-0">
      <a class="act" href="/clients/{program.client}">{program.name}</a>
      <span class="text-soft">a program whose token draws for it</span>
    </p>
  {/each}
  {#each keys.data ?? [] as entry (entry.client)}
    <div class="border-base-300 border-b py-2 last:border-0">
      <p class="flex flex-wrap items-baseline gap-x-2">
        <a class="act value" href="/clients/{entry.client}"
          >{entry.hints.join(' ') || 'no live secret'}</a
        >
        <span class="text-soft"
          >{KINDS[entry.kind]}, {entry.right === 'draw' ? 'draws and relays' : 'relay only'}</span
        >
        {#if may('change')}<button
            class="act ms-auto"
            onclick={() => (taking = taking === entry.client ? '' : entry.client)}
            >Remove key</button
          >{/if}
      </p>
      <p class="help">
        {#if entry.last_used}<When at={entry.last_used} prefix="last used " />
        {:else}not used yet{/if}
        {#if entry.ends}· <When at={entry.ends} prefix="expires " />{/if}
        {entry.addresses.length ? `· from ${entry.addresses.join(', ')}` : ''}
      </p>
      {#if taking === entry.client}
        <p class="bg-bad-ground my-1 rounded-md px-3 py-2">
          {name} is refused with it from now on, and cannot be given the same again.
          <button
            class="btn btn-error btn-sm mt-1"
            disabled={acts.busy}
            onclick={() => takeAway(entry.client)}>Remove key</button
          >
        </p>
      {/if}
      {#if may('change')}<div class="mt-2">
          <Handover
            id={entry.handover}
            house
            certificate={entry.kind === 'certificate'}
            done={() => void keys.refetch()}
          />
        </div>{/if}
    </div>
  {:else}{#if keys.data}<p class="help">
        Nothing yet. With a key of its own it sends requests through the relay, or takes ready
        headers, by reference name.
      </p>{/if}{/each}
  {#if draws.data?.length}
    <h3 class="mt-3 mb-1 font-bold">What it drew</h3>
    {#each draws.data as draw (draw.ref)}
      <p class="flex items-baseline gap-3">
        {#if draw.ref}<a class="act value" href="/connections/{draw.ref}">{draw.ref}</a>{:else}<span
            class="text-soft">a connection that is gone</span
          >{/if}
        <span class="text-soft ms-auto text-end"
          >{draw.week} in 7 days · <When at={draw.last} /></span
        >
      </p>
    {/each}
  {/if}
</section>
