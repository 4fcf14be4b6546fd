<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Connection, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import SignInOutcome from '../../lib/SignInOutcome.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { goto, reference } from '../../router'
  import { searchParams } from 'sv-router'
  import SetUpOurs from './SetUpOurs.svelte'
  import SetUpPrepare from './SetUpPrepare.svelte'
  import SetUpWho from './SetUpWho.svelte'
  import TestCard from './TestCard.svelte'

  const ref = $derived(reference())
  const found = createQuery(() => ({
    queryKey: ['connection', ref],
    queryFn: () => ok(api.GET('/api/connections/{ref}', { params: { path: { ref } } })),
  }))
  const standing = createQuery(() => ({
    queryKey: ['set-up', ref],
    queryFn: () => ok(api.GET('/api/connections/{ref}/set-up', { params: { path: { ref } } })),
  }))
  const acts = acting('connection')
  const run = acts.run
  let opened = $state<string | null>(null)
  let watching = $state<string | null>(null)
  let said = $state<string[]>([])
  /** The step to do now stands open, unless the person opened another. */
  const open = $derived(opened ?? (standing.data?.next || ''))

  const test = (last: string) =>
    run(async () => {
      const begun = await ok(
        api.POST('/api/connections/{ref}/tests', { params: { path: { ref }, query: { last } } }),
      )
      watching = begun.id
    })
  const signIn = () =>
    run(async () => {
      const begun = await ok(
        api.POST('/api/connections/{ref}/sign-ins', {
          params: { path: { ref } },
          body: { back: `/connections/${ref}/set-up` },
        }),
      )
      window.location.assign(begun.address)
    })
  const changeScheme = (scheme: string) =>
    run(() =>
      ok(
        api.POST('/api/connections/{ref}/schemes', { params: { path: { ref } }, body: { scheme } }),
      ),
    )
  const intoRounds = (version: number) =>
    run(() =>
      ok(
        api.PATCH('/api/connections/{ref}', {
          params: { path: { ref } },
          body: { paused: false },
          headers: { 'If-Match': `"${version}"` },
        }),
      ),
    )
  const copy = (environment: string) =>
    run(async () => {
      const made = await ok(
        api.POST('/api/connections/{ref}/copies', {
          params: { path: { ref } },
          body: { environment },
        }),
      )
      const came = `carried=${made.carried.join(', ')}&new=${made.new.join(', ')}`
      goto(`/connections/${made.ref}/set-up?from=${ref}&${came}`)
      opened = null
    })
  function toggle(section: Schemas['SectionOut']): void {
    opened = open === section.key ? '' : section.key
  }
  const otherSchemes = (connection: Connection) =>
    connection.schemes.filter((scheme) => scheme.key !== connection.scheme.key)
  /** The values of which the profile says where they are found at the application. */
  const valuesWithPlace = (connection: Connection) =>
    [...connection.slot_values, ...connection.scheme.values].filter((value) => value.where)
  const look: Record<string, string> = {
    done: 'bg-accent text-accent-content',
    now: 'bg-secondary text-base-100',
    later: 'bg-slate-ground text-slate',
  }
  const done = (notes: Record<string, string[]>) => (said = Object.values(notes).flat())
</script>

<svelte:head><title>Set up {ref} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data && standing.data}
  {@const connection = found.data}
  {@const copiesTo = standing.data.copies_to}
  {@const environmentsLeft = standing.data.environments_left}
  {@const located = valuesWithPlace(connection)}
  <header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
    <h1>Set up {connection.application_name}</h1>
    <EnvBadge environment={connection.environment} />
    <span class="help"
      ><When at={connection.changed_at} prefix="saved " /> · you can leave and come back</span
    >
    <a class="btn btn-sm ms-auto" href="/connections/{ref}">Both halves</a>
  </header>
  <SignInOutcome />
  {#if said.length}<p role="status" class="bg-wait-ground mb-3 rounded-md px-3 py-2">
      Taken in: {said.join('; ')}.
      <button class="act ms-3" onclick={() => (said = [])}>Close</button>
    </p>{/if}
  {#if acts.problem}<div class="mb-3"><ProblemBox problem={acts.problem} /></div>{/if}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_300px] items-start gap-4">
    <ol class="sheet" aria-label="Steps of setting up, in the order of the work">
      {#each standing.data.sections as section, place (section.key)}
        <li
          class="border-base-300 border-b last:border-0"
          data-section={section.key}
          data-standing={section.standing}
        >
          <h2 class="text-[1.08rem]">
            <button
              type="button"
              class={[
                'grid w-full grid-cols-[26px_1fr] items-start gap-x-[18px] px-4 py-2.5',
                'text-start',
              ]}
              aria-expanded={open === section.key}
              onclick={() => toggle(section)}
            >
              <span
                class="grid h-[26px] w-[26px] place-items-center rounded-md font-bold {look[
                  section.standing
                ]}">{place + 1}</span
              >
              <span
                ><span class="block leading-[26px]"
                  >{section.title}{#if section.standing === 'done'}<span class="sr-only"
                      >, done</span
                    >{/if}</span
                ><span class="help block font-normal">{section.says}</span></span
              >
            </button>
          </h2>
          {#if open === section.key}
            <!-- Where somebody works stays open, even when the next step becomes the one to do. -->
            <div class="px-4 pb-4 ps-[60px]" onfocusin={() => (opened = section.key)}>
              {#if section.key === 'wants'}
                <dl class="grid grid-cols-[12rem_1fr] gap-x-3 gap-y-1">
                  {#each connection.scheme.values as value (value.key)}
                    <dt>{value.label}{value.required ? '' : ' (if there is one)'}</dt>
                    <dd class="help">
                      {value.help}{#if value.where}&nbsp;<span class="text-brass"
                          >Where: {value.where}</span
                        >{/if}
                    </dd>
                  {/each}
                </dl>
                {#if connection.schemes.length > 1 && may('change')}
                  <p class="mt-2">
                    {#each otherSchemes(connection) as scheme (scheme.key)}
                      <button
                        class="act me-4"
                        disabled={acts.busy}
                        onclick={() => changeScheme(scheme.key)}
                        >Take the other way: {scheme.label}</button
                      >
                    {/each}
                  </p>
                {/if}
              {:else if section.key === 'who'}<SetUpWho {connection} />
              {:else if section.key === 'prepare'}<SetUpPrepare {connection} {done} />
              {:else if section.key === 'ours'}<SetUpOurs {connection} {done} />
              {:else if section.key === 'sign_in'}
                {#if may('test')}<button
                    class="btn btn-primary btn-sm"
                    disabled={acts.busy}
                    onclick={signIn}>{connection.signed_in ? 'Sign in again' : 'Sign in'}</button
                  >{/if}
                <p class="help mt-1">
                  You are sent to {connection.application_name} and brought back to this page.
                  {connection.values.account ? `Pick ${connection.values.account}.` : ''}
                </p>
              {:else}
                <div class="mb-2 flex flex-wrap gap-3">
                  {#if may('test')}
                    <button class="btn btn-sm" disabled={acts.busy} onclick={() => test('sign_in')}
                      >The credential alone</button
                    >
                    <button
                      class="btn btn-primary btn-sm"
                      data-key="t"
                      disabled={acts.busy}
                      onclick={() => test('')}
                      >The whole ladder <kbd
                        class="value rounded border border-current px-1 text-[0.85em]">T</kbd
                      ></button
                    >
                  {/if}
                  {#if connection.paused && connection.state === 'latched' && may('change')}
                    <button
                      class="btn btn-sm"
                      disabled={acts.busy}
                      onclick={() => intoRounds(connection.version)}>Include in rounds</button
                    >
                  {/if}
                </div>
                {#key ref}<TestCard {connection} {watching} />{/key}
              {/if}
            </div>
          {/if}
        </li>
      {/each}
    </ol>
    <div class="flex flex-col gap-3">
      <section class="sheet p-4" aria-labelledby="missing-title">
        <h2 id="missing-title" class="mb-1">Still missing</h2>
        {#each standing.data.missing as entry (entry)}<p class="text-soft py-1" data-missing>
            {entry}
          </p>{:else}<p class="text-success font-semibold">Nothing. It latches.</p>{/each}
      </section>
      {#if connection.slot_values.length || located.length}
        <section class="sheet p-4" aria-labelledby="where-title">
          <h2 id="where-title" class="mb-1">Where is it?</h2>
          {#each located as slotValue (slotValue.key)}
            <p class="py-0.5">
              <strong>{slotValue.label}:</strong> <span class="text-soft">{slotValue.where}</span>
            </p>
          {/each}
        </section>
      {/if}
      {#if searchParams.get('from')}
        <section class="sheet p-4" aria-labelledby="from-title">
          <h2 id="from-title" class="mb-1">From {searchParams.get('from')}</h2>
          <p><span class="text-soft">Copied:</span> {searchParams.get('carried')}.</p>
          <p><span class="text-soft">Must be new:</span> {searchParams.get('new')}.</p>
        </section>
      {/if}
      {#if standing.data.environments_left.length}
        <section class="sheet p-4" aria-labelledby="left-title">
          <h2 id="left-title" class="mb-1">Other environments</h2>
          <p class="text-soft">{standing.data.environments_left.join(' and ')} not set up yet.</p>
          {#each may('change') ? standing.data.copies_to : [] as entry (entry.key)}
            <button class="act block" disabled={acts.busy} onclick={() => copy(entry.key)}
              >Copy this set-up to {entry.name}</button
            >
          {/each}
          {#if copiesTo.length < environmentsLeft.length && may('change')}
            <a
              class="act block"
              href="/applications/new?name={encodeURIComponent(connection.application_name)}"
              >Add its addresses there first</a
            >
          {/if}
        </section>
      {/if}
    </div>
  </div>
{/if}
