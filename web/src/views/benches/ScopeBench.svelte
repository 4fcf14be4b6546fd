<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ifMatch, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { param } from '../../router'
  import ConsentCard from './ConsentCard.svelte'
  import ScopeMatrix from './ScopeMatrix.svelte'
  import TrimCard from './TrimCard.svelte'

  const id = $derived(param('id'))
  const found = createQuery(() => ({
    queryKey: ['scope-bench', id],
    queryFn: () =>
      ok(api.GET('/api/clients/{identity}/scopes', { params: { path: { identity: id } } })),
  }))
  const acts = acting('client')
  type Holder = Schemas['HolderOut']

  const permit = (scopes: string[]) =>
    acts.run(() =>
      ok(
        api.PATCH('/api/clients/{identity}', {
          params: { path: { identity: id } },
          body: { scopes },
          headers: ifMatch(found.data!.version),
        }),
      ),
    )
  const request = (holder: Holder, scopes: string[]) =>
    acts.run(() =>
      ok(
        api.PATCH('/api/connections/{ref}', {
          params: { path: { ref: holder.ref } },
          body: { scopes },
          headers: ifMatch(holder.version),
        }),
      ),
    )
  const renew = (holder: Holder) =>
    acts.run(async () => {
      if (holder.signs_person_in) {
        const back = `/clients/${id}/scopes`
        const begun = await ok(
          api.POST('/api/connections/{ref}/sign-ins', {
            params: { path: { ref: holder.ref } },
            body: { back },
          }),
        )
        window.location.assign(begun.address)
      } else
        await ok(
          api.POST('/api/connections/{ref}/tokens', { params: { path: { ref: holder.ref } } }),
        )
    })
  const wide = $derived((found.data?.columns.length ?? 0) > 12)
  const hasWorkloads = (ref: string) =>
    found.data?.columns.some((column) => column.ref === ref) ?? false
  const same = (column: readonly string[], other: readonly string[]) =>
    [...column].sort().join(' ') === [...other].sort().join(' ')
</script>

<svelte:head><title>Scopes of {found.data?.name ?? ''} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  {@const bench = found.data}
  {@const trim = bench.trim}
  {@const permitted = bench.rows.filter((column) => column.permitted).map((column) => column.name)}
  <header class="mb-3 flex flex-wrap items-center gap-x-4">
    <h1>{bench.word === 'scope' ? 'Scopes and consent' : `What its ${bench.word} allows`}</h1>
    <a class="act" href="/clients/{bench.client}">{bench.name}</a>
    <EnvBadge environment={bench.environment} />
    <strong
      class={trim.missing.length || trim.impossible.length
        ? 'text-error'
        : trim.can_go.length
          ? 'text-warning'
          : 'text-success'}
      >{trim.missing.length
        ? `${trim.missing.length} missing`
        : trim.impossible.length
          ? `${trim.impossible.length} calls that nothing allows`
          : trim.can_go.length && bench.columns.length
            ? `${trim.can_go.length} could go`
            : bench.columns.length
              ? 'exactly what is needed'
              : 'no workload'}</strong
    >
  </header>
  {#if acts.problem}<div class="mb-3"><ProblemBox problem={acts.problem} /></div>{/if}
  <!-- Many workloads take the whole width, so that forty columns stand side by side. -->
  {#if wide}<div class="mb-4"><ScopeMatrix {bench} compact /></div>{/if}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_356px] items-start gap-4">
    <div class="flex min-w-0 flex-col gap-4">
      {#if !wide}<ScopeMatrix {bench} />{/if}
      {#if bench.word === 'scope'}
        <section class="sheet" aria-labelledby="holders">
          <h2 id="holders" class="border-base-300 border-b px-4 py-2">
            Connections that use this client
          </h2>
          <table class="rows">
            <thead
              ><tr><th>Connection</th><th>Asks for</th><th>Its own trim</th><th>Token</th></tr
              ></thead
            >
            <tbody>
              {#each bench.connections as column (column.ref)}
                <tr>
                  <td><a class="act value" href="/connections/{column.ref}">{column.ref}</a></td>
                  <td class="value">{column.requested.join(' ') || 'nothing'}</td>
                  <td
                    >{#if !hasWorkloads(column.ref)}<span class="text-soft"
                        >not known: it has no workload</span
                      >
                    {:else if same(column.requested, column.trim.scopes)}<span class="text-success"
                        >asks for exactly that</span
                      >
                    {:else}<span class="value">{column.trim.scopes.join(' ') || 'nothing'}</span>
                      {#if may('change')}<br /><button
                          class="act"
                          onclick={() => request(column, column.trim.scopes)}
                          >Request only these</button
                        >{/if}{/if}</td
                  >
                  <td
                    >{#if column.granted === null}<span class="text-soft">none yet</span>
                    {:else if column.stale}<span class="text-warning font-semibold"
                        >made <When at={column.made} />, before the change <When
                          at={column.changed}
                        /></span
                      >
                      {#if may('test') && !column.individual}<br /><button
                          class="act"
                          disabled={acts.busy}
                          onclick={() => renew(column)}
                          >{column.signs_person_in ? 'Sign in again' : 'Make a new one'}</button
                        >{:else if column.individual}<br /><span class="help"
                          >each person signs in again</span
                        >{/if}
                    {:else}<When at={column.made} prefix="made " />{/if}</td
                  >
                </tr>
              {:else}<tr><td colspan="4">No connection uses it yet.</td></tr>{/each}
            </tbody>
          </table>
        </section>
      {/if}
    </div>
    <div class="flex flex-col gap-4">
      <TrimCard {trim} word={bench.word} workloads={bench.columns.length} />
      {#if bench.word === 'scope'}
        {#if may('change') && !same(permitted, trim.scopes) && bench.columns.length}
          <section class="sheet p-4" aria-labelledby="permit">
            <h2 id="permit" class="mb-1">Permit exactly the trim</h2>
            <p class="help">
              {bench.managed
                ? 'Changed at the application at once'
                : 'Noted here; enter it in their screens too'}. No workload that is known stops by
              it; tokens made before keep what they had.
            </p>
            <p class="value mt-1">{trim.scopes.join(' ') || 'none'}</p>
            <button class="btn btn-sm mt-2" disabled={acts.busy} onclick={() => permit(trim.scopes)}
              >{bench.managed ? 'Permit these' : 'Record these'}</button
            >
          </section>
        {/if}
        <ConsentCard {bench} />
      {:else}
        <section class="sheet p-4">
          <p>
            A {bench.word} is changed in the application's own screens.
            <a class="act" href="/clients/{bench.client}">Record the change at the account</a>; a
            token made before it does not have it.
          </p>
        </section>
      {/if}
    </div>
  </div>
{/if}
