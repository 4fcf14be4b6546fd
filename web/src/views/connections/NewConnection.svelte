<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, once } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ApplicationField from '../../lib/ApplicationField.svelte'
  import Field from '../../lib/Field.svelte'
  import { onDay } from '../../lib/time'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { takesClients } from '../../lib/words'
  import { goto, route } from '../../router'
  import BeginSetUp from './BeginSetUp.svelte'
  import ValueFields from './ValueFields.svelte'

  const search = route.search as Record<string, unknown>
  const acts = acting('connection')
  const sent = once()
  let application = $state(String(search.application ?? ''))
  let environment = $state(String(search.environment ?? ''))
  let client = $state(String(search.client ?? ''))
  let scheme = $state('')
  let form = $state({
    name: '',
    values: {} as Record<string, string>,
    scopes: [] as string[],
    secrets: {} as Record<string, string>,
    ends: '',
  })
  let loaded = ''
  const errors = $derived(acts.errors)

  const found = createQuery(() => ({
    queryKey: ['application', application],
    queryFn: () =>
      ok(api.GET('/api/applications/{key}', { params: { path: { key: application } } })),
    enabled: Boolean(application),
  }))
  const clients = createQuery(() => ({
    queryKey: ['clients', application, environment, 'live'],
    queryFn: () =>
      ok(api.GET('/api/clients', { params: { query: { application, environment, live: true } } })),
    enabled: Boolean(application && environment),
  }))
  const oauth = $derived(takesClients(found.data))
  const named = createQuery(() => ({
    queryKey: ['client', client],
    queryFn: () =>
      ok(api.GET('/api/clients/{identity}', { params: { path: { identity: client } } })),
    enabled: Boolean(client),
  }))
  // The first of them, and the one that is named in the address, whichever page it stands on.
  const here = $derived.by(() => {
    const some = clients.data?.items ?? []
    const also =
      named.data &&
      named.data.application === application &&
      named.data.environment.key === environment
    return also && !some.some((choice) => choice.id === client) ? [named.data, ...some] : some
  })
  const chosen = $derived(here.find((choice) => choice.id === client))
  const usable = $derived(
    (found.data?.schemes ?? []).filter(
      (scheme) => !chosen || scheme.key === chosen.scheme || chosen.grants.includes(scheme.grant),
    ),
  )
  $effect(() => {
    if (
      found.data &&
      !found.data.deployments.some((deployment) => deployment.environment.key === environment)
    )
      environment = found.data.deployments[0]?.environment.key ?? ''
  })
  $effect(() => {
    if (usable.length && !usable.some((choice) => choice.key === scheme)) scheme = usable[0]!.key
  })
  const draft = createQuery(() => ({
    queryKey: ['draft', application, environment, scheme, client],
    queryFn: () =>
      ok(
        api.GET('/api/connections/drafts/{application}/{environment}/{scheme}', {
          params: {
            path: { application, environment, scheme },
            query: { client: client || undefined },
          },
        }),
      ),
    enabled: Boolean(application && environment && scheme),
  }))
  $effect(() => {
    const about = [application, environment, scheme, client].join()
    if (draft.data && !draft.isPlaceholderData && loaded !== about) {
      loaded = about
      form.name = draft.data.name
      form.values = { ...draft.data.values }
      form.scopes = draft.data.scopes.filter((scope) => scope.permitted).map((scope) => scope.name)
    }
  })

  const secrets = $derived(
    (draft.data?.scheme.values ?? []).filter((value) => value.secret && value.type !== 'key'),
  )

  async function submit(event: Event): Promise<void> {
    event.preventDefault()
    const body = {
      name: form.name,
      application,
      environment,
      scheme,
      client: client || null,
      values: form.values,
      scopes: form.scopes,
      slots: {},
      secrets: Object.fromEntries(Object.entries(form.secrets).filter(([, value]) => value)),
      secret_ends: form.ends ? onDay(form.ends) : null,
    }
    const made = await acts.run(() =>
      ok(api.POST('/api/connections', { body, headers: sent.headers(body) })),
    )
    if (!made) return
    form.secrets = {}
    const said = Object.values(made.notes ?? {}).flat()
    const cleaned = said.length ? `?cleaned=${encodeURIComponent(said.join(' '))}` : ''
    goto(`/connections/${made.ref}${cleaned}`)
  }
</script>

<svelte:head><title>Add connection · Neat Latch</title></svelte:head>
<h1 class="mb-3">Add connection</h1>
{#if !search.client}<BeginSetUp />{:else}
  <form onsubmit={submit} class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_356px] gap-5">
    <div class="sheet p-5">
      <div class="grid grid-cols-3 gap-x-5">
        <Field id="application" label="Application">
          <ApplicationField
            id="application"
            bind:value={application}
            changed={() => (client = '')}
          />
        </Field>
        <Field id="environment" label="Environment">
          <select
            id="environment"
            class="line-in"
            bind:value={environment}
            onchange={() => (client = '')}
          >
            {#each found.data?.deployments ?? [] as deployment (deployment.environment.key)}<option
                value={deployment.environment.key}>{deployment.environment.name}</option
              >{/each}
          </select>
        </Field>
        <Field id="client" label="Client registration" error={errors.client}>
          <select id="client" class="line-in" bind:value={client}>
            <option value="">None yet</option>
            {#each here as choice (choice.id)}<option value={choice.id}>{choice.name}</option
              >{/each}
          </select>
        </Field>
      </div>
      {#if draft.data}
        <div class="grid grid-cols-2 gap-x-5">
          <Field id="scheme" label="Authentication scheme" error={errors.scheme}>
            <select id="scheme" class="line-in" bind:value={scheme}
              >{#each usable as choice (choice.key)}<option value={choice.key}
                  >{choice.label}</option
                >{/each}</select
            >
          </Field>
          <Field
            id="name"
            label="Reference name"
            help="The same in each environment; jobs and scripts draw by it."
            error={errors.name}
          >
            <input
              id="name"
              class="line-in value"
              bind:value={form.name}
              aria-invalid={errors.name ? 'true' : undefined}
              required
            />
          </Field>
        </div>
        <h2 class="text-slate mt-2 mb-2">
          Caller side <span class="help font-normal">what we send</span>
        </h2>
        <div class="grid grid-cols-2 gap-x-5">
          <ValueFields scheme={draft.data.scheme} bind:values={form.values} {errors} />
        </div>
        <div class="grid grid-cols-2 gap-x-5">
          {#each secrets as secret (secret.key)}
            <Field
              id="secret-{secret.key}"
              label={secret.label}
              help={draft.data.secrets_known.includes(secret.key)
                ? 'If left empty, the secret that came with the registration is used.'
                : secret.help}
              where={secret.where}
              error={errors[secret.key] ?? (secret.key === 'client_secret' ? errors.secret : '')}
            >
              <input
                id="secret-{secret.key}"
                type="password"
                autocomplete="off"
                class="line-in value"
                bind:value={
                  () => form.secrets[secret.key] ?? '',
                  (typed) => (form.secrets[secret.key] = typed)
                }
              />
            </Field>
          {/each}
          <Field id="ends" label="Expiry of the secret, if known"
            ><input id="ends" type="date" class="line-in" bind:value={form.ends} /></Field
          >
        </div>
        <fieldset class="mb-3">
          <legend class="label-text">Scopes we ask for</legend>
          {#each draft.data.scopes as scope (scope.name)}
            <label class="flex min-h-[26px] items-center gap-2">
              <input type="checkbox" value={scope.name} bind:group={form.scopes} />
              <span class="value">{scope.name}</span>
              <span class="text-soft">{scope.meaning}</span>
              {#if client && !scope.permitted}<span class="text-warning"
                  >not permitted for this client</span
                >{/if}
            </label>
          {/each}
          {#if errors.scopes}<p role="alert" class="text-error font-semibold">
              {errors.scopes}
            </p>{/if}
        </fieldset>
        <ProblemBox problem={acts.problem} />
        <div class="mt-3 flex gap-3">
          <button class="btn btn-primary" disabled={acts.busy}>Add connection</button>
          <a class="btn" href="/connections">Cancel</a>
        </div>
      {:else if application}<Loading query={draft} />{:else}<p class="help">
          Choose the application; what it requires of a caller is asked for next.
        </p>{/if}
    </div>
    <aside class="sheet h-fit p-4">
      <h2 class="mb-1">What comes next</h2>
      <p class="help">
        You will see both halves beside each other, and where they do not meet. Then sign in, and
        test.
      </p>
      {#if application && here.length === 0 && oauth}
        <p class="mt-2">
          No client is registered here yet. <a
            class="act"
            href="/applications/{application}/clients/new?environment={environment}"
            >Register client</a
          >
        </p>
      {/if}
    </aside>
  </form>
{/if}
