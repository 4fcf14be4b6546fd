<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query'
  import { api, ok, once, Problem } from '../../api/client'
  import Field from '../../lib/Field.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { goto, route } from '../../router'

  const environments = createQuery(() => ({ queryKey: ['environments'], queryFn: () => ok(api.GET('/api/environments')) }))
  const queries = useQueryClient()
  const key = crypto.randomUUID()
  let by = $state<'metadata' | 'hand'>('metadata')
  let form = $state({
    name: String((route.search as Record<string, unknown>).name ?? ''),
    environment: 'sandbox',
    purpose: '',
    owner: '',
    metadata_address: '',
    description_address: '',
    issuer: '',
    authorization_endpoint: '',
    token_endpoint: '',
    api_base: '',
  })
  let problem = $state<unknown>(null)
  let busy = $state(false)
  let tries = $state(0)
  const errors = $derived(problem instanceof Problem ? problem.errors : {})

  async function submit(event: Event): Promise<void> {
    event.preventDefault()
    busy = true
    problem = null
    tries += 1
    const body =
      by === 'metadata'
        ? { ...form, issuer: '', authorization_endpoint: '', token_endpoint: '' }
        : { ...form, metadata_address: '', description_address: '' }
    if (by === 'metadata' && !form.metadata_address.trim()) {
      problem = new Problem(422, 'Something is not right yet.', 'The metadata address is needed, or choose “by hand”.', {
        metadata_address: 'Give the address, or the issuer.',
      })
      busy = false
      return
    }
    try {
      const made = await ok(api.POST('/api/applications', { body, headers: once(`${key}-${tries}`) }))
      await queries.invalidateQueries()
      goto(`/applications/${made.key}`)
    } catch (error) {
      problem = error
    }
    busy = false
  }
</script>

{#snippet text(field: keyof typeof form, label: string, help: string, placeholder = '', mono = true)}
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
<div class="grid grid-cols-[minmax(0,1fr)_320px] gap-5">
  <form class="sheet p-5" onsubmit={submit}>
    <fieldset class="mb-4 flex gap-6">
      <legend class="label-text">How do you know what it wants?</legend>
      <label class="flex min-h-[24px] items-center gap-2"
        ><input type="radio" name="by" value="metadata" bind:group={by} /> It publishes metadata</label
      >
      <label class="flex min-h-[24px] items-center gap-2"
        ><input type="radio" name="by" value="hand" bind:group={by} /> By hand, from its documents</label
      >
    </fieldset>
    <Field
      id="environment"
      label="Environment"
      error={errors.environment}
      help="Its addresses differ from one environment to the next. Add the others afterwards."
    >
      <select id="environment" class="line-in" bind:value={form.environment}>
        {#each environments.data ?? [] as one (one.key)}<option value={one.key}>{one.name}</option>{/each}
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
    {:else}
      {@render text('issuer', 'Issuer', 'The name of its sign-in server.', 'https://ids.harbour.example')}
      {@render text(
        'authorization_endpoint',
        'Authorization endpoint',
        'Where people are sent to sign in. Leave it empty if nobody signs in.',
        'https://ids.harbour.example/authorize',
      )}
      {@render text(
        'token_endpoint',
        'Token endpoint',
        'Where codes and secrets are traded for tokens.',
        'https://ids.harbour.example/token',
      )}
    {/if}
    {@render text(
      'api_base',
      'API base address',
      by === 'metadata' ? 'Left empty, it is taken from the API description.' : 'What every operation’s path is added to.',
      'https://api.harbour.example/v1',
    )}
    {@render text('name', 'Name', 'As your colleagues call it. Left empty, the API description’s title is taken.', '', false)}
    {@render text('purpose', 'What it is for', '', '', false)}
    {@render text('owner', 'Owner', 'Who looks after it in the firm.', '', false)}
    <ProblemBox {problem} />
    <div class="mt-4 flex gap-3">
      <button class="btn btn-primary" disabled={busy}>{busy ? 'Reading what it publishes …' : 'Add it'}</button>
      <a class="btn" href="/applications">Leave it</a>
    </div>
  </form>
  <aside class="sheet h-fit p-4">
    <h2 class="mb-1">What happens</h2>
    <p class="help">
      Neat Latch fetches the metadata, checks that its issuer is the one you asked for (RFC 8414 §3.3) and that every address is
      protected. Nothing is sent to the application, and no client is made yet.
    </p>
  </aside>
</div>
