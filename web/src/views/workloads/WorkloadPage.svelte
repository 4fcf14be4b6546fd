<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ApplicationField from '../../lib/ApplicationField.svelte'
  import DecommissionButton from '../../lib/DecommissionButton.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import NotesCard from '../../lib/NotesCard.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { STATES } from '../../lib/words'
  import { param } from '../../router'
  import DrawsWith from './DrawsWith.svelte'
  import LogReader from './LogReader.svelte'
  import WorkloadForm from './WorkloadForm.svelte'
  import NextWindow from './NextWindow.svelte'

  const id = $derived(param('id'))
  const found = createQuery(() => ({
    queryKey: ['workload', id],
    queryFn: () => ok(api.GET('/api/workloads/{identity}', { params: { path: { identity: id } } })),
  }))
  const acts = acting('workload')
  let editing = $state(false)
  let adding = $state(false)
  let reading = $state(0)
  let changing = $state(0)
  let application = $state('')
  let connection = $state('')
  let operations = $state<string[]>([])
  const chosen = $derived(
    changing
      ? (found.data?.uses.find((use) => use.id === changing)?.application ?? '')
      : application,
  )
  const profile = createQuery(() => ({
    queryKey: ['application', chosen],
    queryFn: () => ok(api.GET('/api/applications/{key}', { params: { path: { key: chosen } } })),
    enabled: Boolean(chosen),
  }))
  const connections = createQuery(() => ({
    queryKey: ['connections', 'of', chosen],
    queryFn: () =>
      ok(api.GET('/api/connections', { params: { query: { words: `app:${chosen}` } } })),
    enabled: Boolean(chosen),
  }))

  const add = (event: Event) => {
    event.preventDefault()
    void acts
      .run(() =>
        ok(
          api.POST('/api/workloads/{identity}/uses', {
            params: { path: { identity: id } },
            body: { application, connection, operations },
          }),
        ),
      )
      .then(() => {
        if (acts.problem) return
        adding = false
        application = ''
        connection = ''
        operations = []
      })
  }
  const change = (number: number, body: Schemas['UseChange']) =>
    acts
      .run(() =>
        ok(
          api.PATCH('/api/workloads/{identity}/uses/{number}', {
            params: { path: { identity: id, number } },
            body,
          }),
        ),
      )
      .then(() => {
        if (!acts.problem) changing = 0
      })
  const stop = (number: number) =>
    acts.run(() =>
      ok(
        api.DELETE('/api/workloads/{identity}/uses/{number}', {
          params: { path: { identity: id, number } },
        }),
      ),
    )
  function begin(use: Schemas['UseOut']): void {
    changing = use.id
    operations = [...use.operations]
  }
</script>

<svelte:head><title>{found.data?.name ?? 'Workload'} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  {@const workload = found.data}
  <header class="mb-3 flex flex-wrap items-center gap-x-4">
    <h1>{workload.name}</h1>
    <EnvBadge environment={workload.environment} />
    <span class="text-soft"
      >{workload.kind}{workload.owner ? ` of ${workload.owner}` : ', no owner'}</span
    >
    {#if may('change')}<span class="ms-auto flex gap-3"
        ><button class="btn btn-sm" data-key="e" onclick={() => (editing = !editing)}
          >Edit <kbd class="value text-[0.85em]">E</kbd></button
        ></span
      >{/if}
  </header>
  {#if editing}{#key workload.version}<WorkloadForm
        {workload}
        done={(saved) => ((editing = false), saved && void found.refetch())}
      />{/key}{/if}
  {#if acts.problem}<div class="mb-3"><ProblemBox problem={acts.problem} /></div>{/if}
  {#each workload.warnings as warning (warning.says)}
    <p role="status" class="bg-bad-ground mb-2 rounded-md px-3 py-2">
      {warning.says}
      {#if may('change')}
        {#if warning.act === 'set_up'}<a
            class="act ms-2"
            href="/connections/new?application={workload.uses.find(
              (each) => !each.connection || warning.act === 'set_up',
            )?.application}&environment={workload.environment.key}">Set it up there</a
          >{:else if warning.act === 'finish'}<a
            class="act ms-2"
            href="/connections/{warning.ref}/set-up">Finish the set-up</a
          >
        {:else if warning.act === 'look'}<a class="act ms-2" href="/connections/{warning.ref}"
            >Open connection</a
          >
        {:else if warning.ref}{@const use = workload.uses.find(
            (each) => each.connection === '' || warning.act === 'move',
          )}
          {#if use}<button
              class="act ms-2"
              onclick={() => change(use.id, { connection: warning.ref })}>Use {warning.ref}</button
            >{/if}{/if}
      {/if}
    </p>
  {/each}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_356px] items-start gap-4">
    <section class="sheet" aria-labelledby="uses">
      <header class="border-base-300 flex items-baseline border-b px-4 py-2">
        <h2 id="uses">What it calls</h2>
        {#if may('change')}<button
            class="act ms-auto"
            onclick={() => ((adding = !adding), (changing = 0), (operations = []))}
            >{adding ? 'Cancel' : 'Add an application'}</button
          >{/if}
      </header>
      {#if adding}
        <form class="border-base-300 border-b p-4" onsubmit={add}>
          <label class="mb-2 block max-w-md" for="use-application"
            ><span class="label-text">Application</span><ApplicationField
              id="use-application"
              none="choose"
              bind:value={application}
            /></label
          >
          <label class="mb-2 block max-w-md"
            ><span class="label-text">Connection</span><select
              class="line-in"
              bind:value={connection}
              ><option value="">none is set up yet</option
              >{#each connections.data?.items ?? [] as connection (connection.ref)}<option
                  value={connection.ref}>{connection.ref}, {connection.environment.name}</option
                >{/each}</select
            ></label
          >
          {@render picking()}
          <button class="btn btn-primary btn-sm mt-2" disabled={!application}
            >Add application</button
          >
        </form>
      {/if}
      {#each workload.uses as use (use.id)}
        <div class="border-base-300 border-b px-4 py-3 last:border-0">
          <p class="flex flex-wrap items-baseline gap-x-3">
            <strong>{use.application_name}</strong>
            {#if use.connection}<a class="act value" href="/connections/{use.connection}"
                >{use.connection}</a
              >
              <span class={use.state === 'unlatched' ? 'text-error font-semibold' : 'text-soft'}
                >{STATES[use.state]}</span
              >
            {:else}<span class="text-error font-semibold">no connection is named</span>{/if}
            {#if may('change')}<span class="ms-auto flex gap-4">
                <button
                  class="act"
                  onclick={() => (changing === use.id ? (changing = 0) : begin(use))}>Change</button
                >
                <button class="act" onclick={() => (reading = reading === use.id ? 0 : use.id)}
                  >From a log</button
                >
                <button
                  class="act"
                  onclick={() => stop(use.id)}
                  aria-label="{workload.name} no longer calls {use.application_name}">Remove</button
                ></span
              >{/if}
          </p>
          {#if changing === use.id}
            <label class="my-2 block max-w-md"
              ><span class="label-text">Connection</span><select
                class="line-in"
                value={use.connection}
                onchange={(event) => change(use.id, { connection: event.currentTarget.value })}
                ><option value="">none is set up yet</option
                >{#each connections.data?.items ?? [] as connection (connection.ref)}<option
                    value={connection.ref}>{connection.ref}, {connection.environment.name}</option
                  >{/each}</select
              ></label
            >
            {@render picking()}
            <button
              class="btn btn-primary btn-sm mt-2"
              onclick={() => change(use.id, { operations })}>Save its operations</button
            >
          {:else}
            {#each use.operations as entry (entry)}<p>
                <span class="value">{entry}</span>{#if use.seen[entry]}<span class="text-soft">
                    seen {use.seen[entry]} ×</span
                  >{/if}
              </p>{:else}<p class="help">
                No operation is recorded, so its needs are not known.
              </p>{/each}
            {#if use.seen_at}<p class="help">
                <When at={use.seen_at} prefix="from a log, " />
              </p>{/if}
          {/if}
          {#if reading === use.id}<LogReader
              workload={id}
              use={use.id}
              done={() => (reading = 0)}
            />{/if}
        </div>
      {:else}<p class="px-4 py-3">
          Nothing yet. Say which application it calls, and by which connection.
        </p>{/each}
    </section>
    <div class="flex flex-col gap-4">
      {#key id}<DrawsWith {id} name={workload.name} programs={workload.programs} />{/key}
      <section class="sheet p-4">
        <h2 class="mb-1">When it may be changed</h2>
        {#each workload.windows as window (window)}<p class="value">{window}</p>{:else}<p>
            At any time.
          </p>{/each}
        {#if workload.next_window}<p class="help"><NextWindow at={workload.next_window} /></p>{/if}
        <p>
          {workload.notice_days
            ? `Its owner requires ${workload.notice_days} days of notice.`
            : 'No notice is asked for.'}
        </p>
        <p>
          {workload.draws ? 'It draws by reference name.' : 'Its settings are changed manually.'}
        </p>
        <p class="help">{workload.runs ? `Runs ${workload.runs}.` : ''}</p>
      </section>
      {#key id}<NotesCard of="workloads" {id} />{/key}
      {#if may('change')}<section class="sheet p-4">
          <h2 class="mb-1">End of use</h2>
          <p class="help mb-2">
            It no longer runs: a page leads through revoking what it draws with, and keeps its
            history.
          </p>
          <DecommissionButton of="workloads" {id} name={workload.name} />
        </section>{/if}
    </div>
  </div>
{/if}

{#snippet picking()}
  {#if profile.data?.operations.length}
    <fieldset>
      <legend class="label-text">Operations, out of its description</legend>
      {#each profile.data.operations as operation (operation.name)}<label
          class="flex min-h-[26px] items-center gap-2"
          ><input type="checkbox" value={operation.name} bind:group={operations} />
          <span class="value">{operation.name}</span>
          <span class="help">{operation.summary}</span></label
        >{/each}
      {#if may('change')}<p class="help">
          One that is not in the description is entered manually in <a
            class="act"
            href="/applications/{chosen}/profile">its profile</a
          >.
        </p>{/if}
    </fieldset>
  {:else if chosen}<p class="help">
      No operations are known of it. Read its API description, or enter them in its profile.
    </p>{/if}
{/snippet}
