<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ifMatch, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import DecommissionButton from '../../lib/DecommissionButton.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import OwnerOf from '../../lib/OwnerOf.svelte'
  import NotesCard from '../../lib/NotesCard.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { paged } from '../../lib/paged.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { capital, takesClients } from '../../lib/words'
  import { param } from '../../router'
  import ScopeTable from './ScopeTable.svelte'

  const key = $derived(param('key'))
  const acts = acting('application')
  const found = createQuery(() => ({
    queryKey: ['application', key],
    queryFn: () => ok(api.GET('/api/applications/{key}', { params: { path: { key } } })),
  }))
  const clients = paged(
    () => ['clients', key],
    (cursor) => ok(api.GET('/api/clients', { params: { query: { application: key, cursor } } })),
  )
  const environments = createQuery(() => ({
    queryKey: ['environments'],
    queryFn: () => ok(api.GET('/api/environments')),
  }))
  const oauth = $derived(takesClients(found.data))
  const left = $derived(
    (environments.data ?? []).filter(
      (environment) =>
        !found.data?.deployments.some(
          (deployment) => deployment.environment.key === environment.key,
        ),
    ),
  )

  const whole = $derived(['application', key])
  const readAgain = (environment: string) =>
    acts.run(
      () =>
        ok(
          api.POST('/api/applications/{key}/environments/{environment}/readings', {
            params: { path: { key, environment } },
          }),
        ),
      whole,
    )
  const giveTo = (owner: string) =>
    acts.run(() => {
      const headers = ifMatch(found.data!.version)
      return ok(
        api.PATCH('/api/applications/{key}', {
          params: { path: { key } },
          body: { owner },
          headers,
        }),
      )
    }, whole)
  async function saveScopes(scopes: Schemas['ScopeIO'][]): Promise<boolean> {
    const params = { path: { key } }
    const headers = ifMatch(found.data!.version)
    const saved = await acts.run(
      () => ok(api.PATCH('/api/applications/{key}', { params, body: { scopes }, headers })),
      whole,
    )
    if (!saved) await acts.read()
    return Boolean(saved)
  }
  /** What the profile calls an address that has no name of its own here. */
  const labelOf = (name: string) =>
    found.data?.schemes.flatMap((scheme) => scheme.values).find((place) => place.key === name)
      ?.label ?? name
  const addressesOf = (deployment: Schemas['DeploymentOut']): [string, string][] =>
    [
      ['Issuer', deployment.issuer],
      ['Authorization endpoint', deployment.authorization_endpoint],
      ['Token endpoint', deployment.token_endpoint],
      ['API base address', deployment.api_base],
      ...Object.entries(deployment.more).map(([name, value]) => [labelOf(name), value]),
    ].filter((pair): pair is [string, string] => Boolean(pair[1]))
</script>

<svelte:head><title>{found.data?.name ?? 'Application'} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  <header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
    <h1>{found.data.name}</h1>
    <span class="help">{found.data.purpose}</span>
    <span class="inline-flex flex-wrap items-baseline gap-x-1"
      ><span class="help">Owner:</span>
      <OwnerOf id="owner" owner={found.data.owner} {acts} save={giveTo} /></span
    >
    <a class="btn btn-sm ms-auto" href="/applications/{key}/profile">Profile</a>
    {#if may('change')}<a class="btn btn-sm" href="/connections/new?application={key}"
        >Set up a connection</a
      >{/if}
    {#if may('change') && oauth}<a
        class="btn btn-primary btn-sm"
        href="/applications/{key}/clients/new"
        data-key="n">Register a client <kbd class="value text-[0.85em] opacity-80">N</kbd></a
      >{/if}
  </header>
  <ProblemBox problem={acts.problem} />
  {#if left.length && found.data.deployments.length}
    <p class="bg-wait-ground my-2 rounded-md px-3 py-2">
      Not set up in {left.map((place) => place.name).join(' and ')}.
      {#if may('change')}<a
          class="act"
          href="/applications/new?name={encodeURIComponent(found.data.name)}">Add it there</a
        >{/if}
    </p>
  {/if}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1.25fr)_minmax(0,1fr)] gap-5">
    <div class="flex flex-col gap-4">
      <section class="sheet" aria-labelledby="where">
        <h2 id="where" class="border-base-300 border-b px-4 py-2">Deployments</h2>
        {#each found.data.deployments as deployment (deployment.environment.key)}
          <div class="border-base-300 border-b px-4 py-3 last:border-0">
            <div class="mb-1 flex items-center gap-3">
              <EnvBadge environment={deployment.environment} />
              <span class="help"
                >{deployment.registers
                  ? 'registers clients by protocol'
                  : 'clients are entered manually'}</span
              >
              <a
                class="act"
                href="/api/applications/{key}/environments/{deployment.environment.key}/exports"
                download>OpenAPI</a
              >
              {#if found.data.rules_kept || found.data.roles.length}<a
                  class="act"
                  href="/access-rules/{key}/{deployment.environment.key}">Access rules</a
                >{/if}
              {#if deployment.read_at}<span class="help ms-auto"
                  ><When at={deployment.read_at} prefix="metadata read " /></span
                >
                {#if may('change')}<button
                    class="act"
                    onclick={() => readAgain(deployment.environment.key)}
                    aria-label="Read the metadata of {deployment.environment.name} again"
                    >Read again</button
                  >{/if}{/if}
            </div>
            <dl class="grid grid-cols-[11rem_1fr] gap-x-3">
              {#each addressesOf(deployment) as [label, value] (label)}
                <dt class="text-soft">{label}</dt>
                <dd class="value">{value}</dd>
              {/each}
            </dl>
            {#if may('change')}<p class="mt-1">
                <DecommissionButton
                  of="deployments"
                  id="{key}/{deployment.environment.key}"
                  name="{found.data.name} in {deployment.environment.name}"
                  look="act"
                />
              </p>{/if}
          </div>
        {/each}
      </section>
      <section class="sheet" aria-labelledby="clients">
        <h2 id="clients" class="border-base-300 border-b px-4 py-2">Clients registered there</h2>
        {#if clients.rows.length}
          <table class="rows">
            <thead
              ><tr
                ><th>Name</th><th>Client ID</th><th>Environment</th><th>Managed</th><th>Used by</th
                ></tr
              ></thead
            >
            <tbody>
              {#each clients.rows as client (client.id)}
                <tr data-row>
                  <td><a class="act" href="/clients/{client.id}">{client.name}</a></td>
                  <td class="value">{client.client_id || '—'}</td>
                  <td><EnvBadge environment={client.environment} /></td>
                  <td
                    >{client.kind === 'resource_server'
                      ? 'here: it asks about tokens'
                      : client.house
                        ? 'here, by the house authority'
                        : client.managed
                          ? 'by protocol (RFC 7592)'
                          : client.state === 'preparing'
                            ? 'manually, not finished'
                            : client.state === 'asking'
                              ? 'asked, no answer yet'
                              : 'manually'}</td
                  >
                  <td
                    >{#each client.connections as ref (ref)}<a
                        class="act me-2"
                        href="/connections/{ref}">{ref}</a
                      >{/each}{#if client.more_connections}<span class="text-soft"
                        >and {client.more_connections} more</span
                      >{/if}</td
                  >
                </tr>
              {/each}
            </tbody>
          </table>
          {#if clients.query.hasNextPage}<button
              class="btn btn-sm m-3"
              onclick={() => clients.query.fetchNextPage()}>Show more</button
            >{/if}
        {:else}
          <p class="px-4 py-3">
            None yet. A client, a key or an account is what the application knows us by.
          </p>
        {/if}
      </section>
    </div>
    <div class="flex flex-col gap-4">
      {#if oauth || found.data.scopes.length}<ScopeTable
          scopes={found.data.scopes}
          editable={may('change')}
          save={saveScopes}
        />{/if}
      {#if found.data.roles.length}
        <section class="sheet" aria-labelledby="roles">
          <h2 id="roles" class="border-base-300 border-b px-4 py-2">
            {capital(found.data.roles_label)}s of an account
          </h2>
          <table class="rows">
            <thead><tr><th>Name</th><th>Means</th><th>Allows also</th></tr></thead>
            <tbody>
              {#each found.data.roles as role (role.name)}<tr
                  ><td class="value">{role.name}</td><td>{role.meaning}</td><td class="value"
                    >{role.implies.join(' ')}</td
                  ></tr
                >{/each}
            </tbody>
          </table>
        </section>
      {/if}
      <section class="sheet" aria-labelledby="operations">
        <h2 id="operations" class="border-base-300 border-b px-4 py-2">Operations</h2>
        {#if found.data.operations.length}
          <table class="rows">
            <thead><tr><th>Call</th><th>Needs</th></tr></thead>
            <tbody>
              {#each found.data.operations as operation (operation.name)}
                <tr
                  ><td
                    ><span class="value">{operation.name}</span><br /><span class="help"
                      >{operation.summary}</span
                    ></td
                  ><td class="value"
                    >{operation.alternatives.map((some) => some.join(' + ')).join(', or ') ||
                      'nothing'}</td
                  ></tr
                >
              {/each}
            </tbody>
          </table>
        {:else}<p class="px-4 py-3">None are known. They come from an API description.</p>{/if}
      </section>
      {#key found.data.key}<NotesCard of="applications" id={found.data.key} />{/key}
    </div>
  </div>
{/if}
