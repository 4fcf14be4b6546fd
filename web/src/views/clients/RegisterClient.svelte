<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, once } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import SigningRequest from '../../lib/SigningRequest.svelte'
  import { onDay } from '../../lib/time'
  import { goto, param, route } from '../../router'
  import UriList from './UriList.svelte'

  const key = $derived(param('key'))
  const found = createQuery(() => ({
    queryKey: ['application', key],
    queryFn: () => ok(api.GET('/api/applications/{key}', { params: { path: { key } } })),
  }))
  const acts = acting('client')
  const sent = once()
  let form = $state({
    environment: String((route.search as Record<string, unknown>).environment ?? ''),
    name: '',
    contacts: '',
    public: false,
    redirect_uris: [`${location.origin}/return`],
    grants: ['authorization_code', 'refresh_token'],
    scopes: [] as string[],
    sign_in_method: 'client_secret_basic',
    by_protocol: true,
    vendor_shared: false,
  })
  /** Who issues it where both can, and what it is: a client of OAuth 2.0, or a key. */
  let issuer = $state('house')
  let request = $state('')
  let ends = $state('')
  const errors = $derived(acts.errors)
  const deployments = $derived(
    found.data?.deployments.filter((deployment) => deployment.issues.length) ?? [],
  )
  const deployment = $derived(
    deployments.find((deployment) => deployment.environment.key === form.environment) ??
      deployments[0],
  )
  const issuers = $derived([...new Set(deployment?.issues.map((issue) => issue.by) ?? [])])
  const by = $derived(issuers.includes(issuer) ? issuer : issuers[0])
  const house = $derived(by === 'house')
  const issuable = $derived(deployment?.issues.filter((issue) => issue.by === by) ?? [])
  /** What it is: what was chosen, where that can be had, else what is usual there. */
  let chosen = $state('')
  const issued = $derived(issuable.find((choice) => choice.what === chosen) ?? issuable[0])
  const shows = $derived(issued?.what === 'certificate')
  /** Neither grants nor redirect URIs. */
  const isKey = $derived(issued !== undefined && issued.what !== 'client')
  const WHAT: Record<string, string> = {
    client: 'A client of OAuth 2.0',
    key: 'A key',
    certificate: 'A certificate, shown in TLS',
  }
  const grants = $derived(issued?.grants ?? [])
  const methods = $derived(issued?.sign_in_methods ?? [])

  async function submit(event: Event): Promise<void> {
    event.preventDefault()
    if (!deployment) return
    const by_protocol = form.by_protocol && deployment.registers
    const body = {
      ...form,
      by_protocol,
      by_house: house,
      ends: house && ends ? onDay(ends) : null,
      scheme: issued?.kind ?? '',
      request: shows ? request : '',
      application: key,
      environment: deployment.environment.key,
      contacts: form.contacts.split(/[\s,;]+/).filter(Boolean),
      redirect_uris:
        !isKey && form.grants.includes('authorization_code')
          ? form.redirect_uris.filter(Boolean)
          : [],
    }
    const made = await acts.run(() =>
      ok(api.POST('/api/clients', { body, headers: sent.headers(body) })),
    )
    if (made) goto(`/clients/${made.id}`)
  }
  const WHAT_IT_IS =
    'A key is sent with every call; a client gets short-lived tokens by its secret; a ' +
    'certificate is presented when the connection is opened.'
</script>

<svelte:head><title>Register a client at {found.data?.name ?? ''} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data && !deployment}
  <h1 class="mb-3">Register a client at {found.data.name}</h1>
  <section class="sheet max-w-2xl p-5">
    <p class="mb-2">
      There are no OAuth 2.0 clients to register at {found.data.name}. The set-up of a connection
      says what to enter there.
    </p>
    <a class="btn btn-primary btn-sm" href="/connections/new?application={key}"
      >Set up a connection</a
    >
    <a class="btn btn-sm" href="/applications/{key}">Cancel</a>
  </section>
{/if}
{#if found.data && deployment}
  <h1 class="mb-3">Register a client at {found.data.name}</h1>
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_320px] gap-5">
    <form class="sheet p-5" onsubmit={submit}>
      <div class="grid grid-cols-2 gap-x-5">
        <Field id="environment" label="Environment">
          <select
            id="environment"
            class="line-in"
            value={deployment.environment.key}
            onchange={(e) => (form.environment = e.currentTarget.value)}
          >
            {#each deployments as deployment (deployment.environment.key)}<option
                value={deployment.environment.key}>{deployment.environment.name}</option
              >{/each}
          </select>
        </Field>
        {#if issuers.length > 1}
          <Field
            id="issuer"
            label="Issued by"
            help="The application accepts what the house authority issues."
          >
            <select id="issuer" class="line-in" bind:value={issuer}>
              <option value="house">The house authority</option><option value="application"
                >{found.data.name} itself</option
              >
            </select>
          </Field>
        {/if}
        {#if house}
          <Field id="kind" label="What it is" help={WHAT_IT_IS}>
            <select
              id="kind"
              class="line-in"
              value={issued?.what}
              onchange={(e) => (chosen = e.currentTarget.value)}
            >
              {#each issuable as choice (choice.what)}<option value={choice.what}
                  >{WHAT[choice.what]}</option
                >{/each}
            </select>
          </Field>
          {#if !shows}<Field
              id="ends"
              label="Expiry of its secret"
              error={errors.ends}
              help="Left empty: in half a year. At most a year ahead."
            >
              <input id="ends" type="date" class="line-in" bind:value={ends} />
            </Field>{/if}
        {/if}
        <Field
          id="name"
          label="Name"
          error={errors.name}
          help={shows
            ? 'The name in its certificate, too.'
            : 'Their people will see it when they consent, and in their lists.'}
        >
          <input
            id="name"
            class="line-in"
            bind:value={form.name}
            aria-invalid={errors.name ? 'true' : undefined}
            required
          />
        </Field>
        <Field
          id="contacts"
          label="Contact"
          help="A mail address they can write to, better a team's than a person's."
        >
          <input id="contacts" class="line-in" bind:value={form.contacts} />
        </Field>
        {#if shows}<div class="col-span-2">
            <SigningRequest
              id="request"
              bind:value={request}
              error={errors.request}
              help="If its holder makes the key. Empty: it is made here and handed over once."
            />
          </div>{/if}
        {#if !isKey}<Field
            id="type"
            label="Type"
            help="Public is for programs that cannot keep a secret, such as an app on a phone."
          >
            <select
              id="type"
              class="line-in"
              value={form.public ? 'public' : 'confidential'}
              onchange={(e) => (form.public = e.currentTarget.value === 'public')}
            >
              <option value="confidential">Confidential: keeps a secret</option><option
                value="public">Public: has none</option
              >
            </select>
          </Field>{/if}
      </div>
      {#if !isKey}<fieldset class="mb-3">
          <legend class="label-text">Grants to switch on</legend>
          <div class="flex flex-wrap gap-x-6">
            {#each grants as grant (grant)}<label class="flex min-h-[26px] items-center gap-2"
                ><input type="checkbox" value={grant} bind:group={form.grants} />
                <span class="value">{grant}</span></label
              >{/each}
          </div>
          {#if errors.grants}<p role="alert" class="text-error font-semibold">
              {errors.grants}
            </p>{/if}
        </fieldset>{/if}
      {#if !isKey && form.grants.includes('authorization_code')}<UriList
          bind:uris={form.redirect_uris}
          error={errors.redirect_uris}
        />{/if}
      {#if !shows}<fieldset class="mb-3">
          <legend class="label-text">Scopes, no more than the work needs</legend>
          {#each found.data.scopes as scope (scope.name)}
            <label class="flex min-h-[26px] items-center gap-2">
              <input type="checkbox" value={scope.name} bind:group={form.scopes} />
              <span class="value">{scope.name}</span> <span class="text-soft">{scope.meaning}</span>
              {#if scope.kind !== 'read'}<span class="help">({scope.kind}s)</span>{/if}
              {#if scope.administrator}<span class="text-warning"
                  >an administrator must consent</span
                >{/if}
            </label>
          {:else}<p class="help">None are known for this application.</p>{/each}
          {#if errors.scopes}<p role="alert" class="text-error font-semibold">
              {errors.scopes}
            </p>{/if}
        </fieldset>{/if}
      {#if !form.public && !isKey}
        <Field
          id="method"
          label="Client sign-in"
          help="How the client proves itself at the token endpoint (RFC 6749 §2.3)."
        >
          <select id="method" class="line-in value" bind:value={form.sign_in_method}
            >{#each methods as method (method)}<option>{method}</option>{/each}</select
          >
        </Field>
      {/if}
      {#if deployment.registers && !house}
        <label class="mb-3 flex min-h-[26px] items-center gap-2"
          ><input type="checkbox" bind:checked={form.by_protocol} />
          <span>Register it for me (RFC 7591)</span></label
        >
      {/if}
      <ProblemBox problem={acts.problem} />
      <div class="mt-3 flex gap-3">
        <button class="btn btn-primary" disabled={acts.busy}
          >{house
            ? 'Issue client'
            : deployment.registers && form.by_protocol
              ? acts.busy
                ? 'Registering …'
                : 'Register'
              : 'List the steps'}</button
        >
        <a class="btn" href="/applications/{key}">Cancel</a>
      </div>
    </form>
    <aside class="sheet h-fit p-4">
      <h2 class="mb-1">
        {house
          ? 'By the house'
          : deployment.registers && form.by_protocol
            ? 'By protocol'
            : 'Manually'}
      </h2>
      <p class="help">
        {#if house}The house authority issues it. The secret is handed over on the next page; after
          that only a digest is kept. It is accepted immediately at {found.data.name}.
        {:else if deployment.registers && form.by_protocol}The client is made by protocol at {found
            .data.name}, which returns its ID and a secret. The secret is sealed as it arrives, and
          shown to you once.
        {:else}You enter the client in {found.data.name}'s own screens. The next page lists the acts
          in order, with what to copy, and keeps your ticks.{/if}
      </p>
    </aside>
  </div>
{/if}
