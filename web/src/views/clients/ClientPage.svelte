<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ifMatch, ok, type Client } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import DecommissionButton from '../../lib/DecommissionButton.svelte'
  import EndOf from '../../lib/EndOf.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import NotesCard from '../../lib/NotesCard.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import ScopeEffects from '../../lib/ScopeEffects.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { param } from '../../router'
  import ClientJson from './ClientJson.svelte'
  import Handover from './Handover.svelte'
  import Issued from './Issued.svelte'
  import ProviderNotes from './ProviderNotes.svelte'
  import Steps from './Steps.svelte'
  import UriChange from './UriChange.svelte'

  const id = $derived(param('id'))
  const acts = acting('client')
  const found = createQuery(() => ({
    queryKey: ['client', id],
    queryFn: () => ok(api.GET('/api/clients/{identity}', { params: { path: { identity: id } } })),
  }))
  const application = createQuery(() => ({
    queryKey: ['application', found.data?.application],
    queryFn: () =>
      ok(
        api.GET('/api/applications/{key}', { params: { path: { key: found.data!.application } } }),
      ),
    enabled: Boolean(found.data),
  }))
  let uris = $state<string[] | null>(null)
  let scopes = $state<string[] | null>(null)
  /** Whether connections can use it: the application itself and programs are no caller's. */
  const connects = $derived(!['resource_server', 'program'].includes(found.data?.kind ?? ''))
  const has = (part: string): boolean => found.data?.parts.includes(part) ?? false
  const consentable = $derived(
    (application.data?.scopes ?? []).filter(
      (scope) => scope.administrator && found.data?.scopes.includes(scope.name),
    ),
  )

  const act = (call: () => Promise<Client>) => acts.run(call, ['client', id])
  let stops = $state(false)
  let confirmingScopes = $state('')
  const whoStops = (left: string[]) =>
    ok(
      api.POST('/api/clients/{identity}/scopes/previews', {
        params: { path: { identity: id } },
        body: { scopes: left },
      }),
    )
  let changing = $state(false)
  async function change(body: { redirect_uris?: string[]; scopes?: string[] }): Promise<void> {
    changing = true
    const saved = await act(() =>
      ok(
        api.PATCH('/api/clients/{identity}', {
          params: { path: { identity: id } },
          body,
          headers: ifMatch(found.data!.version),
        }),
      ),
    )
    changing = false
    if (saved) uris = scopes = null
  }
  const consent = (scope: string, given: boolean) =>
    act(() =>
      ok(
        api.POST('/api/clients/{identity}/consents', {
          params: { path: { identity: id } },
          body: { scope, given },
        }),
      ),
    )
  const readBack = () =>
    act(() =>
      ok(api.POST('/api/clients/{identity}/readings', { params: { path: { identity: id } } })),
    )
</script>

<svelte:head><title>{found.data?.name ?? 'Client'} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  {@const client = found.data}
  <header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
    <h1>{client.name}</h1>
    <EnvBadge environment={client.environment} />
    <a class="act" href="/applications/{client.application}">{client.application_name}</a>
    {#if has('redirect_uris')}<a class="act" href="/clients/{client.id}/redirect-uris"
        >Redirect URIs</a
      >{/if}
    {#if has('scopes') || has('account')}<a class="act" href="/clients/{client.id}/scopes">Scopes</a
      >{/if}
    {#if may('change') && client.state === 'live' && connects}
      <a
        class="btn btn-primary btn-sm ms-auto"
        data-key="n"
        href="/connections/new?application={client.application}&environment={client.environment
          .key}&client={client.id}"
        >Add connection <kbd class="value text-[0.85em] opacity-80">N</kbd></a
      >
    {/if}
  </header>
  <ProblemBox problem={acts.problem} />
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_356px] gap-4">
    <div class="flex flex-col gap-4">
      {#if may('change')}<Handover
          id={client.handover}
          house={client.house}
          certificate={client.shows_certificate}
          program={client.kind === 'program'}
          done={() => void acts.read()}
        />{/if}
      {#if client.house}<Issued {client} />{/if}
      {#if !client.managed}<Steps {client} notes={client.notes ?? []} />{/if}
      {#if !client.managed}<div class="sheet px-4 pb-4">
          {#key client.id}<ProviderNotes {client} />{/key}
        </div>{/if}
      <section class="sheet p-4" aria-labelledby="side">
        <h2 id="side" class="text-brass mb-2">
          Provider side <span class="help font-normal"
            >what {client.house ? 'the house authority' : client.application_name} holds</span
          >
        </h2>
        <dl class="grid grid-cols-[10rem_1fr] gap-x-3 gap-y-2">
          {#if has('registration')}
            <dt class="text-soft">Client ID</dt>
            <dd class="value">{client.client_id || '—'}</dd>
            <dt class="text-soft">Type</dt>
            <dd>
              {client.public ? 'public' : 'confidential'}{#if client.vendor_shared}
                · <span class="text-warning">the vendor's shared client, never for production</span
                >{/if}
            </dd>
            <dt class="text-soft">Contact</dt>
            <dd>{client.contacts.join(', ') || '—'}</dd>
            <dt class="text-soft">Grants</dt>
            <dd class="value">{client.grants.join(', ')}</dd>
            <dt class="text-soft">Client sign-in</dt>
            <dd class="value">{client.sign_in_method}</dd>
          {:else}
            {#if client.kind === 'program'}<dt class="text-soft">What it is</dt>
              <dd>
                a program that calls the API of Neat Latch (<a
                  class="act"
                  href="/credentials/programs">Programs</a
                >)
              </dd>
              <dt class="text-soft">Rights</dt>
              <dd class="value">{client.scopes.join(', ')}</dd>
            {:else if client.kind !== 'resource_server'}<dt class="text-soft">Way in</dt>
              <dd>
                {application.data?.schemes.find((scheme) => scheme.key === client.scheme)?.label ??
                  client.scheme}
              </dd>
            {:else}<dt class="text-soft">What it is</dt>
              <dd>
                the application itself: it asks the house authority about tokens that it is shown,
                and calls nothing
              </dd>{/if}
            {#if client.client_id}<dt class="text-soft">Client ID</dt>
              <dd class="value">{client.client_id}</dd>{/if}
          {/if}
          {#if has('redirect_uris')}
            <dt class="text-soft">Redirect URIs</dt>
            <dd>
              {#if uris}
                <UriChange
                  client={client.id}
                  name={client.name}
                  begin={uris}
                  label={client.house
                    ? 'Change them'
                    : client.managed
                      ? 'Change them there'
                      : 'Save'}
                  busy={changing}
                  save={(wanted) => change({ redirect_uris: wanted })}
                  leave={() => (uris = null)}
                />
              {:else}
                {#each client.redirect_uris as uri (uri)}<p class="value">{uri}</p>{:else}—{/each}
                {#if may('change')}<button
                    class="act"
                    onclick={() => (uris = [...client.redirect_uris])}>Change redirect URIs</button
                  >{/if}
              {/if}
            </dd>
          {/if}
          {#if has('scopes')}
            <dt class="text-soft">Permitted scopes</dt>
            <dd>
              {#if scopes}
                {#each application.data?.scopes ?? [] as scope (scope.name)}
                  <label class="flex min-h-[26px] items-center gap-2"
                    ><input type="checkbox" value={scope.name} bind:group={scopes} />
                    <span class="value">{scope.name}</span>
                    <span class="text-soft">{scope.meaning}</span></label
                  >
                {/each}
                <ScopeEffects scopes={scopes!} ask={whoStops} bind:stops />
                {#if stops}<label class="mt-2 mb-2 block max-w-md"
                    ><span class="label-text"
                      >Somebody stops by this. To go on, type the client's name: {client.name}</span
                    ><input class="line-in" bind:value={confirmingScopes} /></label
                  >{/if}
                <button
                  class="btn btn-primary btn-sm"
                  disabled={stops && confirmingScopes !== client.name}
                  onclick={() => change({ scopes: scopes! })}
                  >{client.house
                    ? 'Change them'
                    : client.managed
                      ? 'Change them there'
                      : 'Save'}</button
                >
                <button class="btn btn-sm" onclick={() => (scopes = null)}>Cancel</button>
              {:else}
                <span class="value">{client.scopes.join(' ') || 'none'}</span><br />
                {#if may('change')}<button
                    class="act"
                    onclick={() => ((confirmingScopes = ''), (scopes = [...client.scopes]))}
                    >Change scopes</button
                  >{/if}
              {/if}
            </dd>
          {/if}
          {#if consentable.length}
            <dt class="text-soft">Consent</dt>
            <dd>
              {#each consentable as scope (scope.name)}
                {@const given = client.consents[scope.name]}
                <p>
                  <span class="value">{scope.name}</span>
                  {#if given}recorded by {given.who}, <When
                      at={given.when}
                    />{#if may('change')}&nbsp;<button
                        class="act"
                        onclick={() => consent(scope.name, false)}>Record withdrawal</button
                      >{/if}
                  {:else}<span class="text-error font-semibold">not given</span
                    >{#if may('change')}&nbsp;<button
                        class="act"
                        onclick={() => consent(scope.name, true)}>An administrator consented</button
                      >{/if}{/if}
                </p>
              {/each}
            </dd>
          {/if}
        </dl>
        {#if (uris || scopes) && client.connections.length}
          <p class="bg-wait-ground mt-3 rounded-md px-3 py-2">
            A change of what works stops everyone who uses this client: {client.connections.join(
              ', ',
            )}. For another use, register another client.
          </p>
        {/if}
      </section>
    </div>
    <div class="flex flex-col gap-4">
      <section class="sheet p-4">
        <h2 class="mb-1">Managed</h2>
        <p>
          {client.kind === 'program'
            ? 'By the house authority. Its rights are fixed.'
            : client.house
              ? 'By the house authority: what is saved here applies immediately.'
              : client.managed
                ? 'By protocol (RFC 7592): Neat Latch reads and changes it at the application.'
                : 'Manually: a mirrored record. It counts as proven when a test has passed.'}
        </p>
        <p class="help">
          <When at={client.changed_at} prefix="changed " />{client.changed_by
            ? ` by ${client.changed_by}`
            : ''}
        </p>
        {#if client.managed && !client.house && may('change')}<button class="act" onclick={readBack}
            >Read it back from there</button
          >{/if}
      </section>
      {#if !client.house}<section class="sheet p-4">
          <h2 class="mb-1">Secrets</h2>
          {#each client.secrets as secret (secret.id)}
            <p>
              <span class="value">{secret.hint}</span>
              {#if secret.ends}<When at={secret.ends} prefix="expires " />{:else}no expiry date
                known{/if}
              {#if secret.may_end}<EndOf
                  id={secret.id}
                  ends={secret.ends}
                  hint={secret.hint}
                />{/if}
            </p>
          {:else}<p>{client.public ? 'A public client has none.' : 'None seen here.'}</p>{/each}
        </section>{/if}
      {#if connects}<ClientJson {client} />{/if}
      {#key client.id}<NotesCard of="clients" id={client.id} list="" />{/key}
      <section class="sheet p-4">
        <h2 class="mb-1">Used by</h2>
        {#each client.connections as ref (ref)}<p>
            <a class="act" href="/connections/{ref}">{ref}</a>
          </p>{:else}<p>
            {client.kind === 'program' ? 'No connection uses it.' : 'No connection yet.'}
          </p>{/each}
        {#if may('change')}<div class="mt-3">
            <DecommissionButton of="clients" id={client.id} name={client.name} />
          </div>{/if}
      </section>
    </div>
  </div>
{/if}
