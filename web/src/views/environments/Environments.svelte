<script lang="ts">
  /** The environments of the firm: their names, order, looks and rules. */
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import CodeField from '../../lib/CodeField.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import NotesCard from '../../lib/NotesCard.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import EnvironmentForm from './EnvironmentForm.svelte'

  type Environment = Schemas['EnvironmentDetail']

  const found = createQuery(() => ({
    queryKey: ['environments'],
    queryFn: () => ok(api.GET('/api/environments')),
  }))
  const acts = acting('environment', 'round')
  const list = $derived(found.data ?? [])
  /** The key of the environment whose form is open; "+" is that of a new one. */
  let open = $state('')
  let confirming = $state('')
  /** The environment in which to permit showing stored secrets, while a code is asked for. */
  let permitting = $state('')
  let code = $state('')

  const move = (at: number, by: number) =>
    acts.run(() => {
      const keys = list.map((environment) => environment.key)
      keys.splice(at + by, 0, ...keys.splice(at, 1))
      return ok(api.PUT('/api/environments', { body: { keys } }))
    })
  const work = (environment: Environment) =>
    acts.run(() =>
      ok(
        api.PUT('/api/rounds/permissions/{environment}', {
          params: { path: { environment: environment.key } },
          body: { permitted: !environment.work_in_rounds },
        }),
      ),
    )
  const reveal = (key: string, reveals: boolean) =>
    acts.run(async () => {
      await ok(
        api.PUT('/api/revealing/{environment}', {
          params: { path: { environment: key } },
          body: { reveals, code },
        }),
      )
      permitting = ''
      code = ''
    })
  const permit = (event: Event) => {
    event.preventDefault()
    void reveal(permitting, true)
  }
  const remove = (environment: string) =>
    acts.run(async () => {
      await ok(api.DELETE('/api/environments/{environment}', { params: { path: { environment } } }))
      confirming = ''
    })
</script>

<svelte:head><title>Environments · Neat Latch</title></svelte:head>
<header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
  <h1>Environments</h1>
  <span class="help">the places where applications run, each with rules of its own</span>
  {#if may('change')}<button
      class="btn btn-primary btn-sm ms-auto"
      data-key="n"
      onclick={() => (open = open === '+' ? '' : '+')}
      >Add environment <kbd class="value text-[0.85em] opacity-80">N</kbd></button
    >{/if}
</header>
{#if !acts.errors.code}<ProblemBox problem={acts.problem} />{/if}
{#if open === '+'}<EnvironmentForm done={() => (open = '')} />{/if}
<Loading query={found} />
<div class="flex max-w-4xl flex-col gap-3">
  {#each list as entry, at (entry.key)}
    <section
      class="sheet p-4"
      aria-labelledby="environment-{entry.key}"
      data-environment={entry.key}
    >
      <header class="flex flex-wrap items-center gap-x-3 gap-y-1">
        <h2 id="environment-{entry.key}"><EnvBadge environment={entry} /></h2>
        <span class="value text-soft">{entry.key}/</span>
        {#if may('change')}<span class="ms-auto flex flex-wrap gap-x-3">
            <button
              class="act"
              disabled={acts.busy || at === 0}
              aria-label="Move {entry.name} up"
              onclick={() => move(at, -1)}>Up</button
            >
            <button
              class="act"
              disabled={acts.busy || at === list.length - 1}
              aria-label="Move {entry.name} down"
              onclick={() => move(at, 1)}>Down</button
            >
            <button
              class="act"
              aria-label="Edit {entry.name}"
              onclick={() => (open = open === entry.key ? '' : entry.key)}
              >{open === entry.key ? 'Cancel' : 'Edit'}</button
            >
            {#if !entry.in_use}<button
                class="act"
                aria-label="Remove {entry.name}"
                onclick={() => (confirming = entry.key)}>Remove</button
              >{/if}
          </span>{/if}
      </header>
      {#if open === entry.key}<EnvironmentForm start={entry} done={() => (open = '')} />{/if}
      {#if confirming === entry.key}<p class="bg-bad-ground mt-2 rounded-md px-3 py-2">
          Nothing is in {entry.name}. Its key can be used again.
          <button
            class="btn btn-error btn-sm ms-3"
            disabled={acts.busy}
            onclick={() => remove(entry.key)}>Remove environment</button
          >
          <button class="act ms-3" onclick={() => (confirming = '')}>Cancel</button>
        </p>{/if}
      <dl class="mt-2 grid grid-cols-1 items-baseline gap-x-6 sm:grid-cols-[14rem_minmax(0,1fr)]">
        <dt class="help">Production</dt>
        <dd>
          {entry.production ? 'yes: a vendor’s shared client is refused' : 'no'}
        </dd>
        <dt class="help">Service accounts</dt>
        <dd>
          {entry.wants_service_account
            ? 'required: a person’s account is pointed out'
            : 'not required'}
        </dd>
        <dt class="help">Real work in rounds</dt>
        <dd>
          {entry.work_in_rounds
            ? 'permitted, at connections that permit it too'
            : 'not permitted: rounds make harmless calls only'}
          {#if may('change')}<button
              class="act ms-2"
              disabled={acts.busy}
              aria-label="{entry.work_in_rounds ? 'Forbid' : 'Permit'} real work in {entry.name}"
              onclick={() => work(entry)}>{entry.work_in_rounds ? 'Forbid' : 'Permit'}</button
            >{/if}
        </dd>
        <dt class="help">Showing stored secrets</dt>
        <dd>
          {entry.reveals ? 'permitted, with a second factor and a reason' : 'not permitted'}
          {#if may('change') && permitting !== entry.key}<button
              class="act ms-2"
              disabled={acts.busy}
              aria-label="{entry.reveals ? 'Forbid' : 'Permit'} showing secrets in {entry.name}"
              onclick={() =>
                entry.reveals ? void reveal(entry.key, false) : (permitting = entry.key)}
              >{entry.reveals ? 'Forbid' : 'Permit'}</button
            >{/if}
          {#if permitting === entry.key}
            <form class="mt-1 max-w-sm" onsubmit={permit}>
              <CodeField id="permit-code" stored error={acts.errors.code} bind:value={code} />
              <button class="btn btn-primary btn-sm" disabled={acts.busy}>Permit showing</button>
              <button
                type="button"
                class="btn btn-sm"
                onclick={() => ((permitting = ''), (code = ''))}>Cancel</button
              >
            </form>
          {/if}
        </dd>
      </dl>
      <div class="mt-2"><NotesCard of="environments" id={entry.key} list="" inside /></div>
    </section>
  {/each}
</div>
