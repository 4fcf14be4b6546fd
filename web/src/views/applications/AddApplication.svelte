<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, once, Problem } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { carried } from '../../lib/carried'
  import { goto, route } from '../../router'

  const environments = createQuery(() => ({
    queryKey: ['environments'],
    queryFn: () => ok(api.GET('/api/environments')),
  }))
  const acts = acting('application')
  const WAYS = [
    ['metadata', 'It publishes metadata'],
    ['description', 'It has an API description only'],
    ['shipped', 'Its profile is here'],
    ['hand', 'Manually, from its documentation'],
  ] as const
  const pasted = carried()
  let by = $state<'metadata' | 'description' | 'shipped' | 'hand'>(
    pasted ? 'description' : 'metadata',
  )
  let form = $state({
    name: String((route.search as Record<string, unknown>).name ?? ''),
    environment: 'sandbox',
    purpose: '',
    owner: '',
    metadata_address: '',
    description_address: '',
    description: pasted,
    api_base: '',
    scheme: 'oauth2_code',
    shipped: '',
  })
  /** Addresses by the key of the value that the chosen way in wants. */
  let addresses = $state<Record<string, string>>({})
  const known = createQuery(() => ({
    queryKey: ['schemes'],
    queryFn: () => ok(api.GET('/api/schemes')),
  }))
  const profiles = createQuery(() => ({
    queryKey: ['shipped'],
    queryFn: () => ok(api.GET('/api/shipped-profiles')),
  }))
  const shipped = $derived(profiles.data?.find((profile) => profile.key === form.shipped))
  const slots = $derived((shipped?.slots ?? []).map((slot) => `{${slot.key}}`))
  const wanted = $derived.by(() => {
    const schemes =
      by === 'shipped'
        ? (shipped?.schemes ?? [])
        : (known.data ?? []).filter((choice) => choice.key === form.scheme)
    const all = schemes
      .flatMap((scheme) => scheme.values)
      .filter((choice) => ['address', 'host'].includes(choice.type))
    const ours = ['redirect_uri', 'audience']
    return all.filter(
      (choice, place) =>
        !ours.includes(choice.key) && all.findIndex((other) => other.key === choice.key) === place,
    )
  })
  let problem = $state<unknown>(null)
  const sent = once()
  const errors = $derived(problem instanceof Problem ? problem.errors : {})

  async function submit(event: Event): Promise<void> {
    event.preventDefault()
    problem = null
    const named = ['issuer', 'authorization_endpoint', 'token_endpoint', 'api_base']
    const given = by === 'hand' || by === 'shipped' ? addresses : {}
    const body = {
      ...form,
      metadata_address: by === 'metadata' ? form.metadata_address : '',
      description_address:
        by === 'metadata' || by === 'description' ? form.description_address : '',
      description: by === 'metadata' || by === 'description' ? form.description : '',
      issuer: given.issuer ?? '',
      authorization_endpoint: given.authorization_endpoint ?? '',
      token_endpoint: given.token_endpoint ?? '',
      api_base: given.api_base ?? (by === 'metadata' || by === 'description' ? form.api_base : ''),
      more: Object.fromEntries(Object.entries(given).filter(([item]) => !named.includes(item))),
      scheme: by === 'hand' ? form.scheme : '',
      shipped: by === 'shipped' ? form.shipped : '',
    }
    if (by === 'metadata' && !form.metadata_address.trim()) {
      problem = new Problem(
        422,
        'Something is not right yet.',
        'The metadata address is needed, or choose “manually”.',
        {
          metadata_address: 'Give the address, or the issuer.',
        },
      )
      return
    }
    const made = await acts.run(() =>
      ok(api.POST('/api/applications', { body, headers: sent.headers(body) })),
    )
    problem = acts.problem
    if (made) goto(`/applications/${made.key}`)
  }
</script>

{#snippet address(field: string, label: string, help: string, placeholder: string)}
  <Field id={field} {label} {help} error={errors[field]}>
    <input
      id={field}
      class="line-in value"
      {placeholder}
      autocomplete="off"
      spellcheck="false"
      bind:value={() => addresses[field] ?? '', (typed) => (addresses[field] = typed)}
      aria-invalid={errors[field] ? 'true' : undefined}
      aria-describedby="{field}-help{errors[field] ? ` ${field}-error` : ''}"
    />
  </Field>
{/snippet}
{#snippet text(
  field: keyof typeof form,
  label: string,
  help: string,
  placeholder = '',
  mono = true,
)}
  <Field id={field} {label} {help} error={errors[field]}>
    <input
      id={field}
      class="line-in {mono ? 'value' : ''}"
      {placeholder}
      autocomplete="off"
      spellcheck="false"
      bind:value={form[field]}
      aria-invalid={errors[field] ? 'true' : undefined}
      aria-describedby="{field}-help{errors[field] ? ` ${field}-error` : ''}"
    />
  </Field>
{/snippet}

<svelte:head><title>Add an application · Neat Latch</title></svelte:head>
<h1 class="mb-3">Add an application</h1>
<div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_320px] gap-5">
  <form class="sheet p-5" onsubmit={submit}>
    <fieldset class="mb-4 flex flex-wrap gap-x-6">
      <legend class="label-text">How is it described?</legend>
      {#each WAYS as [key, label] (key)}
        <label class="flex min-h-[24px] items-center gap-2"
          ><input type="radio" name="by" value={key} bind:group={by} /> {label}</label
        >
      {/each}
    </fieldset>
    <Field
      id="environment"
      label="Environment"
      error={errors.environment}
      help="Its addresses differ from one environment to the next. Add the others afterwards."
    >
      <select id="environment" class="line-in" bind:value={form.environment}>
        {#each environments.data ?? [] as environment (environment.key)}<option
            value={environment.key}>{environment.name}</option
          >{/each}
      </select>
    </Field>
    {#if by === 'metadata'}
      {@render text(
        'metadata_address',
        'Metadata address or issuer',
        'RFC 8414 or OpenID discovery; the well-known part is added where it is missing.',
        'https://ids.harbour.example',
      )}
      {@render text(
        'description_address',
        'API description, if it has one',
        'OpenAPI 3 in JSON: gives the scopes their meaning, and the operations.',
        'https://api.harbour.example/openapi.json',
      )}
    {:else if by === 'description'}
      {@render text(
        'description_address',
        'API description',
        'OpenAPI 3, in JSON or YAML: says how to authenticate, and what each operation needs.',
        'https://api.harbour.example/openapi.json',
      )}
    {:else}
      {#if by === 'hand'}
        <Field id="scheme" label="Authentication scheme" error={errors.scheme}>
          <select id="scheme" class="line-in" bind:value={form.scheme}>
            {#each known.data ?? [] as choice (choice.key)}<option value={choice.key}
                >{choice.label}</option
              >{/each}
          </select>
        </Field>
      {:else}
        <Field id="shipped" label="Profile" error={errors.shipped} help={shipped?.purpose}>
          <select id="shipped" class="line-in" bind:value={form.shipped}>
            <option value="" disabled>Choose one</option>
            {#each profiles.data ?? [] as profile (profile.key)}<option value={profile.key}
                >{profile.name}</option
              >{/each}
          </select>
        </Field>
      {/if}
      {#each wanted as choice (choice.key)}
        {@render address(
          choice.key,
          choice.label,
          choice.help,
          choice.example ||
            (choice.type === 'host'
              ? 'stream.harbour.example:9443'
              : 'https://api.harbour.example'),
        )}
      {/each}
      {#if slots.length}<p class="help mb-3">
          Leave {slots.join(' and ')} in the addresses; each connection fills it in once.
        </p>{/if}
    {/if}
    {#if by === 'metadata' || by === 'description'}
      <Field
        id="description"
        label="Or the description itself"
        help="Where it is published at no address: paste it here."
        error={errors.description}
      >
        <textarea
          id="description"
          class="line-in value"
          rows={form.description ? 8 : 2}
          spellcheck="false"
          autocomplete="off"
          bind:value={form.description}
          aria-invalid={errors.description ? 'true' : undefined}
          aria-describedby="description-help{errors.description ? ' description-error' : ''}"
        ></textarea>
      </Field>
      {@render text(
        'api_base',
        'API base address',
        'Left empty, it is taken from the API description.',
        'https://api.harbour.example/v1',
      )}
    {/if}
    {@render text(
      'name',
      'Name',
      'As your colleagues call it. Left empty, the API description’s title is taken.',
      '',
      false,
    )}
    {@render text('purpose', 'Purpose', '', '', false)}
    {@render text('owner', 'Owner', 'Who looks after it in the firm.', '', false)}
    <ProblemBox {problem} />
    <div class="mt-4 flex gap-3">
      <button class="btn btn-primary" disabled={acts.busy}
        >{acts.busy ? 'Reading what it publishes …' : 'Add application'}</button
      >
      <a class="btn" href="/applications">Cancel</a>
    </div>
  </form>
  <aside class="sheet h-fit p-4">
    <h2 class="mb-1">What happens</h2>
    <p class="help">
      {#if by === 'metadata'}Neat Latch fetches the metadata, checks that its issuer is the one you
        asked for (RFC 8414 §3.3) and that every address is protected.
      {:else if by === 'description'}Neat Latch reads the API description, fetched or pasted, and
        takes its operations and authentication schemes from it. Nothing else is asked for.
      {:else}What you enter is kept as it is. No address is called.{/if}
      No client is made yet.
    </p>
  </aside>
</div>
