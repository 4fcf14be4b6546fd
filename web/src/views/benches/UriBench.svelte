<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query'
  import { api, ifMatch, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Copy from '../../lib/Copy.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import { counted } from '../../lib/words'
  import { param } from '../../router'
  import UriChange from '../clients/UriChange.svelte'
  import Answer from './Answer.svelte'

  const id = $derived(param('id'))
  const path = $derived({ path: { identity: id } })
  const queries = useQueryClient()
  const found = createQuery(() => ({
    queryKey: ['uri-bench', id],
    queryFn: () => ok(api.GET('/api/clients/{identity}/redirect-uris', { params: path })),
  }))
  const acts = acting('client')
  let uris = $state<string[] | null>(null)
  let trial = $state('')
  let tried = $state<Schemas['TrialOut'] | null>(null)

  // The answer follows what is typed, a moment after the last key.
  let timer = 0
  $effect(() => {
    const uri = trial
    clearTimeout(timer)
    if (!uri) return void (tried = null)
    timer = window.setTimeout(async () => {
      const answer = await ok(
        api.POST('/api/clients/{identity}/redirect-uris/checks', { params: path, body: { uri } }),
      ).catch(() => null)
      if (uri === trial) tried = answer
    }, 120)
  })
  const change = (wanted: string[]) =>
    acts.run(async () => {
      const headers = ifMatch(found.data!.version)
      if (found.data!.managed)
        await ok(
          api.PATCH('/api/clients/{identity}', {
            params: path,
            body: { redirect_uris: wanted },
            headers,
          }),
        )
      else
        await ok(
          api.PUT('/api/clients/{identity}/redirect-uris/plan', {
            params: path,
            body: { redirect_uris: wanted },
            headers,
          }),
        )
      uris = null
    })
  const leave = () =>
    acts.run(() =>
      ok(
        api.PUT('/api/clients/{identity}/redirect-uris/plan', {
          params: path,
          body: { redirect_uris: null },
        }),
      ),
    )
  const tick = (key: string, done: boolean) =>
    acts.run(() =>
      ok(
        api.POST('/api/clients/{identity}/completed-steps', { params: path, body: { key, done } }),
      ),
    )
  const carriedOut = () =>
    acts.run(() =>
      ok(api.POST('/api/clients/{identity}/redirect-uris/plan/done', { params: path })),
    )
  const readBack = () =>
    acts.run(() => ok(api.POST('/api/clients/{identity}/readings', { params: path })))
  const takeTheirs = (ref: string, value: string) =>
    acts.run(() =>
      ok(
        api.POST('/api/connections/{ref}/acts', {
          params: { path: { ref } },
          body: { pin: 'redirect_uri', key: 'take_provider', value },
        }),
      ),
    )
  function begin(more: string[] = []): void {
    uris = [...new Set([...found.data!.registered.map((registered) => registered.uri), ...more])]
  }
  $effect(() => {
    if (found.error) void queries.invalidateQueries({ queryKey: ['redirect-uris'] })
  })
</script>

<svelte:head><title>Redirect URIs of {found.data?.name ?? ''} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  {@const bench = found.data}
  {@const misses = bench.callers.filter((caller) => !caller.match)}
  <header class="mb-3 flex flex-wrap items-center gap-x-4">
    <h1>Redirect URIs</h1>
    <a class="act" href="/clients/{bench.client}">{bench.name}</a>
    <EnvBadge environment={bench.environment} />
    <strong class={misses.length ? 'text-error' : 'text-success'}
      >{misses.length
        ? `${misses.length} of ${counted(bench.callers.length, 'caller')} would be refused`
        : bench.callers.length
          ? 'every caller matches'
          : 'no connection here sends any'}</strong
    >
    {#if may('change') && !uris && !bench.planned}<span class="ms-auto flex gap-3">
        {#if bench.managed}<button class="btn btn-sm" onclick={readBack} disabled={acts.busy}
            >Read it back from there</button
          >{/if}
        <button class="btn btn-primary btn-sm" data-key="e" onclick={() => begin()}
          >Change them <kbd class="value text-[0.85em] opacity-80">E</kbd></button
        >
      </span>{/if}
  </header>
  {#if acts.problem}<div class="mb-3"><ProblemBox problem={acts.problem} /></div>{/if}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1.2fr)_minmax(0,1fr)] items-start gap-4">
    <div class="flex flex-col gap-4">
      {#if bench.planned}
        <section class="sheet p-4" aria-labelledby="plan">
          <h2 id="plan" class="mb-1">A change that is entered manually there</h2>
          <p class="help mb-2">The record says what is there until all of it is done.</p>
          <ol class="flex flex-col gap-2">
            {#each bench.acts as act, number (act.key)}
              <li class="flex items-start gap-3">
                <label class="flex min-h-[26px] min-w-0 flex-1 items-start gap-2"
                  ><input
                    type="checkbox"
                    class="mt-1"
                    checked={act.done}
                    disabled={!may('change')}
                    onchange={(event) => tick(act.key, event.currentTarget.checked)}
                  />
                  <span class={act.done ? 'text-soft' : ''}
                    >{number + 1}. {act.says}<br /><span class="value whitespace-pre-line"
                      >{act.copy_text}</span
                    ></span
                  ></label
                >
                {#if act.copy_text}<Copy text={act.copy_text} what={act.says} />{/if}
              </li>
            {/each}
          </ol>
          {#if may('change')}<div class="mt-3 flex gap-3">
              <button
                class="btn btn-primary btn-sm"
                disabled={acts.busy || bench.acts.some((act) => !act.done)}
                onclick={carriedOut}>Mark as done</button
              >
              <button class="btn btn-sm" onclick={leave}>Cancel change</button>
            </div>{/if}
        </section>
      {/if}
      {#if uris}
        <section class="sheet p-4" aria-labelledby="edit">
          <h2 id="edit" class="mb-2">
            {bench.managed ? 'Change them at the application' : 'Plan a manual change'}
          </h2>
          {#key uris}
            <UriChange
              client={bench.client}
              name={bench.name}
              begin={uris}
              label={bench.managed ? 'Change them there' : 'List the acts'}
              busy={acts.busy}
              save={change}
              leave={() => (uris = null)}
            />
          {/key}
        </section>
      {/if}
      <section class="sheet" aria-labelledby="callers">
        <h2 id="callers" class="text-slate border-base-300 border-b px-4 py-2">
          Caller side <span class="help font-normal">what connections send, and the answer</span>
        </h2>
        {#each bench.callers as caller (caller.ref)}
          <div class="border-base-300 border-b px-4 py-3 last:border-0">
            <p class="flex flex-wrap items-baseline gap-x-3">
              <a class="act value" href="/connections/{caller.ref}">{caller.ref}</a>
              <span class="value min-w-0">{caller.uri || 'none is filled in'}</span>
            </p>
            <Answer answer={caller} uri={caller.uri} />
            {#if caller.workloads.length}<p class="help">
                Used by {caller.workloads.join(', ')}
              </p>{/if}
            {#if !caller.match && caller.uri && may('change')}<p class="flex gap-4">
                {#if caller.nearest}<button
                    class="act"
                    onclick={() => takeTheirs(caller.ref, caller.nearest!)}
                    >Use the registered one here</button
                  >{/if}
                {#if !bench.planned}<button class="act" onclick={() => begin([caller.uri])}
                    >Register ours too</button
                  >{/if}
              </p>{/if}
          </div>
        {:else}<p class="px-4 py-3">
            No connection that signs people in uses this client yet.
          </p>{/each}
      </section>
    </div>
    <div class="flex flex-col gap-4">
      <section class="sheet" aria-labelledby="registered">
        <h2 id="registered" class="text-brass border-base-300 border-b px-4 py-2">
          Provider side <span class="help font-normal">what {bench.application_name} holds</span>
        </h2>
        {#each bench.registered as entry (entry.uri)}
          {@const missed = misses
            .filter((each) => each.nearest === entry.uri)
            .map((each) => each.ref)}
          <div class="border-base-300 border-b px-4 py-2 last:border-0">
            <p class="value">{entry.uri}</p>
            <p
              class={entry.used_by.length
                ? 'help'
                : missed.length
                  ? 'text-error font-semibold'
                  : 'text-warning font-semibold'}
            >
              {entry.used_by.length
                ? `used by ${entry.used_by.join(', ')}`
                : missed.length
                  ? `nearly, but not exactly, what ${missed.join(', ')} sends`
                  : 'registered, but unused here'}
            </p>
            {#each entry.lint as each (each.code)}<p
                class={each.grave ? 'text-error font-semibold' : 'text-warning font-semibold'}
              >
                {each.says} <span class="help font-normal">{each.source}</span>
              </p>{/each}
          </div>
        {:else}<p class="px-4 py-3">None is registered.</p>{/each}
      </section>
      <section class="sheet p-4" aria-labelledby="trial">
        <h2 id="trial" class="mb-1">Try any URI against this client</h2>
        <label for="trial-uri" class="help"
          >Nothing is sent; the answer is what the standard says.</label
        >
        <input
          id="trial-uri"
          class="line-in value mt-1"
          spellcheck="false"
          autocomplete="off"
          placeholder="https://desk.example/return"
          bind:value={trial}
        />
        <div class="mt-2" aria-live="polite">
          {#if tried}
            <Answer answer={tried} uri={trial} />
            {#each tried.lint as each (each.code)}<p
                class={each.grave ? 'text-error font-semibold' : 'text-warning font-semibold'}
              >
                {each.says} <span class="help font-normal">{each.source}</span>
              </p>{/each}
          {/if}
        </div>
      </section>
    </div>
  </div>
{/if}
