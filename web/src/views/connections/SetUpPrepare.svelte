<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, once, type Connection } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Intake from '../../lib/Intake.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import Handover from '../clients/Handover.svelte'
  import ProviderNotes from '../clients/ProviderNotes.svelte'
  import Steps from '../clients/Steps.svelte'

  let {
    connection,
    done,
  }: { connection: Connection; done: (notes: Record<string, string[]>) => void } = $props()
  const acts = acting('client')
  const run = acts.run
  const sent = once()
  let name = $state('')
  let byProtocol = $state(true)
  let byHouse = $state(true)
  const oauth = $derived(connection.scheme.registers)
  const client = createQuery(() => ({
    queryKey: ['client', connection.client],
    queryFn: () =>
      ok(
        api.GET('/api/clients/{identity}', { params: { path: { identity: connection.client! } } }),
      ),
    enabled: Boolean(connection.client),
  }))
  const application = createQuery(() => ({
    queryKey: ['application', connection.application],
    queryFn: () =>
      ok(api.GET('/api/applications/{key}', { params: { path: { key: connection.application } } })),
  }))
  const deployment = $derived(
    application.data?.deployments.find(
      (deployment) => deployment.environment.key === connection.environment.key,
    ),
  )
  const houseCan = $derived(Boolean(deployment?.house) && connection.scheme.house_issues)
  const fitting = $derived(
    connection.choices.filter((choice) => choice.environment === connection.environment.name),
  )

  const choose = (id: string) =>
    ok(
      api.POST('/api/connections/{ref}/clients', {
        params: { path: { ref: connection.ref } },
        body: { client: id },
      }),
    )
  const begin = (event: Event) => {
    event.preventDefault()
    void run(async () => {
      const person = connection.scheme.signs_in
      const body = {
        application: connection.application,
        environment: connection.environment.key,
        name,
        contacts: [],
        public: false,
        redirect_uris: person ? [connection.values.redirect_uri ?? ''] : [],
        grants: connection.scheme.grants,
        scopes: connection.scopes,
        sign_in_method: deployment?.sign_in_methods[0] ?? 'client_secret_basic',
        by_protocol: oauth && byProtocol && Boolean(deployment?.registers),
        vendor_shared: false,
        by_house: houseCan && byHouse,
        request: '',
        scheme: connection.scheme.key,
      }
      const made = await ok(api.POST('/api/clients', { body, headers: sent.headers(body) }))
      sent.over()
      await choose(made.id)
    })
  }
</script>

{#if !connection.client}
  {#if may('change')}
    <form onsubmit={begin} class="flex flex-wrap items-end gap-3">
      <label class="min-w-72"
        ><span class="label-text">What it is to be called there</span><input
          class="line-in"
          placeholder="Gannet Sound Ferries, {connection.application_name.toLowerCase()}"
          bind:value={name}
          required
        /></label
      >
      {#if houseCan}
        <label class="flex min-h-[34px] items-center gap-2"
          ><input type="checkbox" bind:checked={byHouse} /> Have the house authority issue it</label
        >
      {/if}
      {#if oauth && deployment?.registers && !(houseCan && byHouse)}
        <label class="flex min-h-[34px] items-center gap-2"
          ><input type="checkbox" bind:checked={byProtocol} /> Register it for me (RFC 7591)</label
        >
      {/if}
      <button class="btn btn-primary btn-sm" disabled={acts.busy || !name.trim()}
        >{houseCan && byHouse
          ? 'Issue client'
          : oauth && deployment?.registers && byProtocol
            ? 'Register'
            : 'List the acts'}</button
      >
    </form>
    {#if fitting.length}
      <p class="help mt-3">
        Or take one that is there already. Touching one that works stops everyone who uses it;
        another use requires one of its own.
      </p>
      {#each fitting as account (account.id)}<p>
          <button class="act" disabled={acts.busy} onclick={() => run(() => choose(account.id))}
            >{account.name}</button
          >
          <span class="value text-soft">{account.client_id}</span>
        </p>{/each}
    {/if}
  {:else}<p>Nothing is prepared there yet.</p>{/if}
{:else}
  <Loading query={client} />
  {#if client.data}
    {#if client.data.handover && may('change')}<div class="mb-3">
        <Handover id={client.data.handover} done={() => void acts.read()} />
      </div>{/if}
    <div class="grid sm:grid-cols-2 items-start gap-4">
      {#if client.data.managed}
        <div>
          <p>
            {client.data.name}
            {client.data.house
              ? 'was issued by the house authority'
              : 'was registered by protocol'}, with ID
            <span class="value">{client.data.client_id}</span>.
          </p>
          <p class="mt-1">
            <a class="act" href="/clients/{client.data.id}">The client at the provider</a>
          </p>
        </div>
      {:else}<Steps client={client.data} notes={client.data.notes ?? []} />{/if}
      <div>
        <h3 class="mb-1 font-bold">What came back</h3>
        {#if may('change')}<Intake connection={connection.ref} taken={done} />{/if}
        {#if !client.data.managed}<ProviderNotes client={client.data} />{/if}
      </div>
    </div>
  {/if}
{/if}
{#if acts.problem}<div class="mt-2"><ProblemBox problem={acts.problem} /></div>{/if}
