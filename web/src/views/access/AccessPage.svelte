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
  import Difference from './Difference.svelte'
  import RightsMatrix from './RightsMatrix.svelte'
  import RuleRows from './RuleRows.svelte'

  const key = $derived(param('key'))
  const environment = $derived(param('environment'))
  const path = $derived({ path: { application: key, environment } })
  const found = createQuery(() => ({
    queryKey: ['access', key, environment],
    queryFn: () => ok(api.GET('/api/access-rules/{application}/{environment}', { params: path })),
  }))
  const acts = acting('access')
  let chosen = $state<number[]>([])
  let rules = $state<Schemas['RuleIO'][] | null>(null)
  let groups = $state<[string, string][]>([])
  let importing = $state(false)
  let text = $state('')
  let preview = $state<Schemas['RulesPreviewOut'] | null>(null)
  let asked = $state({ principal: '', operation: '', resource: '', address: '' })
  let decision = $state<Schemas['DecisionOut'] | null>(null)
  let confirming = $state('')
  const format = $derived<'csv' | 'json'>(text.trimStart().startsWith('{') ? 'json' : 'csv')
  const address = $derived(`/api/access-rules/${key}/${environment}`)

  function edit(): void {
    const access = found.data!
    rules = access.rules.map(({ effect, who, operation, resource, match, origins }) => ({
      effect,
      who,
      operation,
      resource,
      match,
      origins: [...(origins ?? [])],
    }))
    groups = Object.entries(access.groups).map(([name, members]) => [name, members.join(', ')])
  }
  const save = () =>
    acts
      .run(() =>
        ok(
          api.PUT('/api/access-rules/{application}/{environment}', {
            params: path,
            headers: ifMatch(found.data!.version),
            body: {
              rules: rules!,
              groups: Object.fromEntries(
                groups
                  .filter(([name]) => name.trim())
                  .map(([name, some]) => [name.trim(), some.split(/[\s,]+/).filter(Boolean)]),
              ),
            },
          }),
        ),
      )
      .then(() => {
        if (!acts.problem) rules = null
      })
  const look = () =>
    acts.run(
      async () =>
        (preview = await ok(
          api.POST('/api/access-rules/{application}/{environment}/previews', {
            params: path,
            body: { text, format },
          }),
        )),
    )
  const take = () =>
    acts
      .run(() =>
        ok(
          api.POST('/api/access-rules/{application}/{environment}/imports', {
            params: path,
            body: { text, format },
            headers: ifMatch(found.data!.version),
          }),
        ),
      )
      .then(() => {
        if (acts.problem) return
        importing = false
        preview = null
        text = ''
      })
  const decide = (event: Event) => {
    event.preventDefault()
    void acts.run(
      async () =>
        (decision = await ok(
          api.POST('/api/access-rules/{application}/{environment}/decisions', {
            params: path,
            body: asked,
          }),
        )),
    )
  }
  const readBack = () =>
    acts.run(() =>
      ok(api.POST('/api/access-rules/{application}/{environment}/readings', { params: path })),
    )
  const push = () =>
    acts
      .run(() =>
        ok(
          api.POST('/api/access-rules/{application}/{environment}/pushes', {
            params: { ...path, query: { confirm: confirming } },
          }),
        ),
      )
      .then(() => {
        if (!acts.problem) confirming = ''
      })
  const takeTheirs = () =>
    acts.run(() =>
      ok(
        api.POST('/api/access-rules/{application}/{environment}/adoptions', {
          params: path,
          headers: ifMatch(found.data!.version),
        }),
      ),
    )
  async function drop(event: DragEvent): Promise<void> {
    const file = event.dataTransfer?.files[0]
    if (!file) return
    event.preventDefault()
    text = await file.text()
    void look()
  }
  // What stands there is told against ours: what it has more is what a push takes away.
  const loses = $derived(
    found.data?.there ? found.data.there.gaining || !!found.data.there.unknown : false,
  )
</script>

<svelte:head
  ><title>Access rules of {found.data?.application_name ?? ''} · Neat Latch</title></svelte:head
>
<Loading query={found} />
{#if found.data}
  {@const access = found.data}
  <header class="mb-3 flex flex-wrap items-center gap-x-4">
    <h1>Access rules</h1>
    <a class="act" href="/applications/{access.application}">{access.application_name}</a>
    <EnvBadge environment={access.environment} />
    <span class="text-soft"
      >{access.derived
        ? 'its roles decide; an account is given another role in its own screens'
        : access.changed_at
          ? `changed by ${access.changed_by}`
          : 'none kept here yet'}</span
    >
    <span class="ms-auto flex gap-3">
      <a class="btn btn-sm" href="{address}/exports?format=csv" download>CSV</a>
      <a class="btn btn-sm" href="{address}/exports?format=json" download>JSON</a>
      {#if may('change') && !access.derived}
        <button class="btn btn-sm" onclick={() => (importing = !importing)}>Import</button>
        <button
          class="btn btn-primary btn-sm"
          data-key="e"
          onclick={() => (rules ? (rules = null) : edit())}
          >Edit the rules <kbd class="value text-[0.85em] opacity-80">E</kbd></button
        >{/if}
    </span>
  </header>
  {#if acts.problem}<div class="mb-3"><ProblemBox problem={acts.problem} /></div>{/if}
  {#if importing}
    <section class="sheet mb-4 p-4" aria-labelledby="import">
      <h2 id="import" class="mb-1">Import rules</h2>
      <label class="help" for="import-text"
        >Paste or drop CSV with the heading effect,who,operation,resource,match,from, or JSON. It
        takes the place of all rules here.</label
      >
      <textarea
        id="import-text"
        class="line-in value"
        rows="6"
        spellcheck="false"
        bind:value={text}
        ondrop={drop}></textarea>
      <div class="mt-2 flex gap-3">
        <button class="btn btn-sm" disabled={acts.busy || !text.trim()} onclick={look}
          >See what would change</button
        >
        {#if preview && !preview.difference.nothing}<button
            class="btn btn-primary btn-sm"
            disabled={acts.busy}
            onclick={take}>Take these rules</button
          >{/if}
        <button class="btn btn-sm" onclick={() => ((importing = false), (preview = null))}
          >Cancel</button
        >
      </div>
      {#if preview}<div class="mt-3" aria-live="polite">
          <Difference told={preview.difference} />
        </div>{/if}
    </section>
  {/if}
  {#if rules}
    <section class="sheet mb-4 p-4" aria-labelledby="edit">
      <h2 id="edit" class="mb-2">
        Edit the rules <span class="help font-normal">a deny wins; no rule means no</span>
      </h2>
      <RuleRows bind:rules bind:groups operations={access.operations} />
      <div class="mt-3 flex gap-3">
        <button class="btn btn-primary btn-sm" disabled={acts.busy} onclick={save}
          >Keep them here</button
        >
        <button class="btn btn-sm" onclick={() => (rules = null)}>Cancel</button>
        <span class="help">Nothing is sent to the application before you push.</span>
      </div>
    </section>
  {/if}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_356px] items-start gap-4">
    <div class="flex min-w-0 flex-col gap-4">
      {#if access.unknown}<p role="status" class="bg-wait-ground rounded-md px-3 py-2">
          <strong>Who may do what is not worked out.</strong>
          {access.unknown}
        </p>{:else}<RightsMatrix {access} {chosen} choose={(some) => (chosen = some)} />{/if}
      <section class="sheet" aria-labelledby="rules">
        <h2 id="rules" class="border-base-300 border-b px-4 py-2">
          {access.rules.length} rules
          <span class="help font-normal">a deny wins; no rule means no</span>
        </h2>
        <ol class="max-h-[320px] overflow-auto py-1">
          {#each access.rules as entry, at (at)}
            <li
              class="flex gap-3 px-4 py-1 {chosen.includes(at)
                ? 'bg-wait-ground font-semibold'
                : ''}"
            >
              <span class="text-soft w-6 text-end">{at + 1}</span>
              <span class={entry.effect === 'deny' ? 'text-error' : ''}>{entry.says}</span>
              {#if entry.idle}<span class="text-warning ms-auto whitespace-nowrap"
                  >never decides</span
                >{/if}
            </li>
          {:else}<li class="px-4 py-2">
              None yet. Without a rule that allows a request, it is denied.
            </li>{/each}
        </ol>
        {#if Object.keys(access.groups).length}<p class="help border-base-300 border-t px-4 py-2">
            {#each Object.entries(access.groups) as [name, members] (name)}<span class="me-4"
                ><strong>{name}</strong>: {members.join(', ') || 'nobody'}</span
              >{/each}
          </p>{/if}
      </section>
    </div>
    <div class="flex flex-col gap-4">
      {#if !access.derived}
        <section class="sheet p-4" aria-labelledby="there">
          <h2 id="there" class="mb-1">At the application</h2>
          {#if access.read_at}
            <p class="help">
              <When at={access.read_at} prefix="read " />{#if access.pushed_at}, <When
                  at={access.pushed_at}
                  prefix="pushed "
                />{/if}
            </p>
            {#if access.by_hand && !access.by_hand.nothing}
              <div class="bg-bad-ground my-2 rounded-md px-3 py-2">
                <strong>Changed there manually since we pushed</strong>
                <Difference told={access.by_hand} added="added there" gone="taken away there" />
              </div>
            {/if}
            {#if access.there}
              {#if access.there.nothing}<p class="text-success font-semibold">
                  The same rules are there.
                </p>
              {:else}<details>
                  <summary class="text-error min-h-[24px] cursor-pointer font-semibold"
                    >The rules there differ from ours</summary
                  >
                  <Difference told={access.there} added="only there" gone="only here" />
                </details>{/if}
            {/if}
          {:else}<p>Nobody has read yet which rules are there.</p>{/if}
          {#if may('change')}
            <div class="mt-2 flex flex-wrap gap-3">
              <button class="btn btn-sm" disabled={acts.busy} onclick={readBack}>Read back</button>
              {#if access.read_at && access.there && !access.there.nothing}
                <button class="btn btn-primary btn-sm" disabled={acts.busy} onclick={push}
                  >Push our rules</button
                >
                <button class="btn btn-sm" disabled={acts.busy} onclick={takeTheirs}
                  >Take their rules</button
                >
              {/if}
            </div>
            {#if access.there && !access.there.nothing && loses}<label class="mt-2 block"
                ><span class="help"
                  >Where pushing takes rights away, type {access.environment.name} first</span
                ><input class="line-in" bind:value={confirming} /></label
              >{/if}
          {/if}
        </section>
      {/if}
      <section class="sheet p-4" aria-labelledby="ask">
        <h2 id="ask" class="mb-1">Check a request</h2>
        <form onsubmit={decide}>
          <input
            class="line-in value mb-2"
            aria-label="Principal"
            placeholder="principal"
            list="principals"
            bind:value={asked.principal}
          />
          <datalist id="principals"
            >{#each access.principals as principal (principal)}<option>{principal}</option
              >{/each}</datalist
          >
          <div class="mb-2 flex gap-2">
            <select class="line-in" aria-label="Operation" bind:value={asked.operation}
              ><option value="">operation</option
              >{#each access.operations as operation (operation)}<option>{operation}</option
                >{/each}</select
            >
            <input
              class="line-in value"
              aria-label="The {access.resource_word}"
              placeholder={access.resource_word}
              list="resources"
              bind:value={asked.resource}
            />
            <datalist id="resources"
              >{#each access.resources as resource (resource)}<option>{resource}</option
                >{/each}</datalist
            >
          </div>
          <input
            class="line-in value"
            aria-label="From address"
            placeholder="from address, if it matters"
            bind:value={asked.address}
          />
          <button
            class="btn btn-sm mt-2"
            disabled={!asked.principal || !asked.operation || !asked.resource}>Check</button
          >
        </form>
        {#if decision}<p
            role="status"
            class="mt-2 {decision.allowed ? 'text-success' : 'text-error'} font-semibold"
          >
            {decision.says}
          </p>{/if}
      </section>
    </div>
  </div>
{/if}
