<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ifMatch, ok, Problem, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { param } from '../../router'
  import ValueFields from '../connections/ValueFields.svelte'

  const key = $derived(param('key'))
  const acts = acting('application')
  const found = createQuery(() => ({
    queryKey: ['application', key],
    queryFn: () => ok(api.GET('/api/applications/{key}', { params: { path: { key } } })),
  }))
  const source = createQuery(() => ({
    queryKey: ['profile-text', key, found.data?.version],
    queryFn: () =>
      ok(api.GET('/api/applications/{key}/profile-texts', { params: { path: { key } } })),
    enabled: Boolean(found.data),
  }))
  let text = $state<string | null>(null)
  let preview = $state<Schemas['ProfilePreview'] | null>(null)
  let problem = $state<unknown>(null)
  let shown = $state('')
  let saved = $state(false)
  let timer = 0
  let asked = 0
  const typed = $derived(text ?? source.data?.text ?? '')
  const schemes = $derived(preview?.schemes ?? found.data?.schemes ?? [])
  const scheme = $derived(schemes.find((scheme) => scheme.key === shown) ?? schemes[0])
  const error = $derived(
    problem instanceof Problem ? (problem.errors.profile ?? problem.detail) : '',
  )
  const FITS: Record<string, string> = {
    '': '—',
    not_proven: 'not proven',
    not_asked: 'not asked for',
  }

  function edit(now: string): void {
    text = now
    saved = false
    clearTimeout(timer)
    timer = window.setTimeout(look, 300)
  }
  async function look(): Promise<void> {
    const mine = ++asked
    try {
      const answer = await ok(
        api.POST('/api/applications/{key}/profile-previews', {
          params: { path: { key } },
          body: { text: typed },
        }),
      )
      if (mine !== asked) return
      preview = answer
      problem = null
    } catch (reason) {
      if (mine === asked) problem = reason
    }
  }
  async function save(): Promise<void> {
    const params = { path: { key } }
    const headers = ifMatch(found.data!.version)
    const changed = await acts.run(
      () => ok(api.PATCH('/api/applications/{key}', { params, body: { text: typed }, headers })),
      ['application', key],
    )
    problem = acts.problem
    if (!changed) return
    text = null
    preview = null
    saved = true
  }
  async function bringBack(number: number): Promise<void> {
    const old = await ok(
      api.GET('/api/applications/{key}/profile-texts', {
        params: { path: { key }, query: { version: number } },
      }),
    )
    edit(old.text)
  }
</script>

<svelte:head><title>Profile of {found.data?.name ?? ''} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data && source.data}
  <header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
    <h1>Profile of <a href="/applications/{key}" class="hover:underline">{found.data.name}</a></h1>
    <span class="help">what it requires of a caller; forms, checks and tests are made from it</span>
  </header>
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1.1fr)_minmax(0,1fr)] items-start gap-4">
    <div>
      <label class="label-text" for="profile-text">The profile, as YAML</label>
      <textarea
        id="profile-text"
        class="line-in value h-[600px] text-[0.93em] leading-snug"
        spellcheck="false"
        readonly={!may('change')}
        value={typed}
        oninput={(event) => edit(event.currentTarget.value)}
        aria-invalid={error ? 'true' : undefined}
        aria-describedby="profile-error"></textarea>
      <div id="profile-error" aria-live="polite">
        {#if error}<p role="alert" class="text-error font-semibold">{error}</p>{/if}
      </div>
      {#if may('change')}
        <div class="mt-2 flex items-center gap-3">
          <button
            class="btn btn-primary btn-sm"
            disabled={text === null || Boolean(error)}
            onclick={save}>Save the profile</button
          >
          <button
            class="btn btn-sm"
            disabled={text === null}
            onclick={() => ((text = null), (preview = null), (problem = null))}
            >Discard changes</button
          >
          {#if saved}<span role="status" class="text-success">Saved.</span>{/if}
        </div>
      {/if}
    </div>
    <div class="flex flex-col gap-3">
      <section class="sheet p-4" aria-labelledby="means-title" aria-live="polite">
        <h2 id="means-title" class="mb-1">What the change means</h2>
        {#if preview}
          <p class={preview.meanings.length ? 'text-error font-semibold' : ''}>{preview.says}</p>
          {#each preview.meanings as meaning (`${meaning.ref} ${meaning.pin} ${meaning.sent}`)}
            <p class="mt-1">
              <a class="act" href="/connections/{meaning.ref}">{meaning.ref}</a>
              {#if meaning.pin}{meaning.pin}: {FITS[meaning.before] ?? meaning.before} →
                <strong>{FITS[meaning.after] ?? meaning.after}</strong>.{/if}
              {#if meaning.sent}{meaning.sent[0]?.toUpperCase()}{meaning.sent.slice(1)}:{/if}
              <span class="text-soft break-words">{meaning.why}</span>
            </p>
          {/each}
        {:else}<p class="help">
            Nothing is changed yet. Type on the left; it is worked out before anything is saved.
          </p>{/if}
      </section>
      <section class="sheet p-4" aria-labelledby="form-title">
        <h2 id="form-title" class="mb-2">The form it yields</h2>
        {#if schemes.length > 1}
          <select class="line-in mb-2" aria-label="Way in" bind:value={shown}
            >{#each schemes as scheme (scheme.key)}<option value={scheme.key}>{scheme.label}</option
              >{/each}</select
          >
        {/if}
        {#if scheme}
          <fieldset disabled>
            <legend class="sr-only">Preview of the form</legend>
            {#each preview?.slots ?? found.data.slots as slot (slot.key)}<p class="mb-2">
                <span class="label-text">{slot.label}</span> <span class="help">{slot.help}</span>
              </p>{/each}
            <ValueFields {scheme} values={{}} />
            {#each scheme.values.filter((value) => value.secret) as value (value.key)}<p
                class="mb-2"
              >
                <span class="label-text">{value.label} · secret</span>
                <span class="help">{value.help}{value.where ? ` Where: ${value.where}` : ''}</span>
              </p>{/each}
          </fieldset>
        {:else}<p class="help">No authentication scheme is described yet.</p>{/if}
      </section>
      {#if found.data.versions.length}
        <section class="sheet p-4" aria-labelledby="versions-title">
          <h2 id="versions-title" class="mb-1">Earlier ones</h2>
          {#each found.data.versions as version (version.number)}
            <p>
              Version {version.number}, until <When at={version.at} />, changed by {version.by}
              {#if may('change')}<button class="act ms-2" onclick={() => bringBack(version.number)}
                  >Restore version</button
                >{/if}
            </p>
          {/each}
        </section>
      {/if}
    </div>
  </div>
{/if}
{#if problem && !error}<ProblemBox {problem} />{/if}
