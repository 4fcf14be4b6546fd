<script lang="ts">
  /** Programs that call the API with tokens of their own, and what their rights are. */
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, once } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Field from '../../lib/Field.svelte'
  import Loading from '../../lib/Loading.svelte'
  import OwnerField from '../../lib/OwnerField.svelte'
  import { paged } from '../../lib/paged.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import SubNav from '../../lib/SubNav.svelte'
  import When from '../../lib/When.svelte'
  import Handover from '../clients/Handover.svelte'

  const found = paged(
    () => ['programs'],
    (cursor) => ok(api.GET('/api/programs', { params: { query: { cursor } } })),
  )
  const environments = createQuery(() => ({
    queryKey: ['environments'],
    queryFn: () => ok(api.GET('/api/environments')),
  }))
  const rights = createQuery(() => ({
    queryKey: ['programs', 'rights'],
    queryFn: async () => (await ok(api.GET('/api/programs'))).rights,
  }))
  const acts = acting('client')
  const sent = once()
  let adding = $state(false)
  /** The handover of a token that was just made. */
  let made = $state('')
  const BLANK = {
    name: '',
    environment: '',
    owner: '',
    addresses: '',
    /** Workloads that it draws for, a line each. */
    draws: '',
    rights: [] as string[],
    everywhere: false,
    /** Where people are sent back to, a line each. */
    returns: '',
    /** Keys of the environments that the rights hold for. */
    holds: [] as string[],
  }
  let form = $state({ ...BLANK })

  function lines(text: string): string[] {
    return text
      .split('\n')
      .map((line) => line.trim())
      .filter(Boolean)
  }

  async function register(event: Event): Promise<void> {
    event.preventDefault()
    const body = {
      name: form.name,
      environment: form.environment || (environments.data?.[0]?.key ?? ''),
      owner: form.owner,
      rights: form.rights,
      environments: form.everywhere ? null : form.holds,
      draws_for: form.rights.includes('draw') ? lines(form.draws) : [],
      return_addresses: form.rights.includes('test') ? lines(form.returns) : [],
      allow_list: form.addresses.split(/[\s,]+/).filter(Boolean),
    }
    const saved = await acts.run(() =>
      ok(api.POST('/api/programs', { body, headers: sent.headers(body) })),
    )
    if (!saved) return
    sent.over()
    made = saved.handover
    adding = false
    form = { ...BLANK }
  }
</script>

<svelte:head><title>Programs · Neat Latch</title></svelte:head>
<SubNav group="credentials" />
<header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
  <h1>Programs</h1>
  <span class="help">what calls the API of Neat Latch itself, with a token of its own</span>
  {#if may('change')}<button
      class="btn btn-primary btn-sm ms-auto"
      data-key="n"
      onclick={() => (adding = !adding)}
      >Register program <kbd class="value text-[0.85em] opacity-80">N</kbd></button
    >{/if}
</header>
{#if made}<section class="sheet mb-4 max-w-3xl p-4" aria-label="New token">
    <h2 class="mb-2">New token</h2>
    <Handover id={made} house program done={() => (made = '')} />
  </section>{/if}
{#if adding}
  <form class="sheet mb-4 max-w-4xl p-4" onsubmit={register}>
    <h2 class="mb-2">New program</h2>
    <div class="grid grid-cols-1 gap-x-5 sm:grid-cols-2">
      <Field id="program-name" label="Name" error={acts.errors.name}>
        <input
          id="program-name"
          class="line-in"
          maxlength="80"
          placeholder="Manifest pipeline"
          bind:value={form.name}
          aria-invalid={acts.errors.name ? 'true' : undefined}
          required
        />
      </Field>
      <Field id="program-environment" label="Runs in" error={acts.errors.environment}>
        <select id="program-environment" class="line-in" bind:value={form.environment}>
          {#each environments.data ?? [] as environment, at (environment.key)}<option
              value={at ? environment.key : ''}>{environment.name}</option
            >{/each}
        </select>
      </Field>
      <Field id="program-owner" label="Owner" error={acts.errors.owner}>
        <OwnerField id="program-owner" bind:value={form.owner} />
      </Field>
      <Field
        id="program-addresses"
        label="Only from these addresses"
        help="Addresses or networks; empty: from anywhere."
        error={acts.errors.allow_list}
      >
        <input
          id="program-addresses"
          class="line-in value"
          placeholder="10.20.7.0/24"
          bind:value={form.addresses}
        />
      </Field>
    </div>
    <fieldset class="mb-3">
      <legend class="label-text">Rights</legend>
      {#each rights.data ?? [] as right (right.name)}
        <label class="flex min-h-[26px] items-baseline gap-2"
          ><input type="checkbox" value={right.name} bind:group={form.rights} /><span
            ><span class="value">{right.name}</span>: {right.meaning}</span
          ></label
        >
      {/each}
      {#if acts.errors.rights}<p class="text-error">{acts.errors.rights}</p>{/if}
    </fieldset>
    {#if form.rights.includes('test')}
      <Field
        id="program-returns"
        label="Return addresses"
        help="Where it may have people sent back to who connect an account; one on each line."
        error={acts.errors.return_addresses}
      >
        <textarea
          id="program-returns"
          class="line-in value"
          rows="2"
          placeholder="https://tallies.gannet.example/connected"
          bind:value={form.returns}></textarea>
      </Field>
    {/if}
    {#if form.rights.includes('draw')}
      <Field
        id="program-draws"
        label="Draws for these workloads"
        help="One on each line, as environment/name."
        error={acts.errors.draws_for}
      >
        <textarea
          id="program-draws"
          class="line-in value"
          rows="3"
          placeholder="production/Nightly manifest export"
          bind:value={form.draws}></textarea>
      </Field>
    {/if}
    <fieldset class="mb-3">
      <legend class="label-text">Rights hold for</legend>
      <label class="flex min-h-[26px] items-baseline gap-2"
        ><input type="checkbox" bind:checked={form.everywhere} /><span>all environments</span
        ></label
      >
      {#if !form.everywhere}{#each environments.data ?? [] as environment (environment.key)}
          <label class="flex min-h-[26px] items-baseline gap-2"
            ><input type="checkbox" value={environment.key} bind:group={form.holds} /><EnvBadge
              {environment}
            /></label
          >
        {/each}{/if}
      {#if acts.errors.environments}<p class="text-error">{acts.errors.environments}</p>{/if}
    </fieldset>
    {#if !Object.keys(acts.errors).length}<ProblemBox problem={acts.problem} />{/if}
    <p class="flex gap-3">
      <button class="btn btn-primary btn-sm" disabled={acts.busy}>Register program</button>
      <button type="button" class="btn btn-sm" onclick={() => (adding = false)}>Cancel</button>
    </p>
  </form>
{/if}
<Loading query={found.query} />
{#if found.rows.length}
  <div class="sheet overflow-x-auto">
    <table class="rows">
      <thead
        ><tr
          ><th>Name</th><th>Rights</th><th>Holds for</th><th>From</th><th>Owner</th><th>Token</th
          ><th>Expires</th><th>Last used</th></tr
        ></thead
      >
      <tbody>
        {#each found.rows as program (program.client)}
          <tr data-row>
            <td
              ><a class="act" href="/clients/{program.client}">{program.name}</a><span
                class="ms-2 inline-block"><EnvBadge environment={program.environment} /></span
              ></td
            >
            <td
              ><span class="value">{program.rights.join(', ')}</span
              >{#if program.draws_for.length}<span class="block text-soft"
                  >draws for {program.draws_for.join(', ')}</span
                >{/if}</td
            >
            <td
              >{program.holds_for
                ? program.holds_for.join(', ') || 'nowhere'
                : 'all environments'}</td
            >
            <td class="value">{program.allow_list.join(', ') || '—'}</td>
            <td>{program.owner || '—'}</td>
            <td class="value whitespace-nowrap">{program.hints.join(' ') || 'none valid'}</td>
            <td
              >{#if program.expires}<When at={program.expires} />{:else}—{/if}</td
            >
            <td
              >{#if program.last_used}<When at={program.last_used} />
                <span class="value text-soft">{program.last_used_from}</span>{:else}<span
                  class="text-soft">not used yet</span
                >{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
  {#if found.query.hasNextPage}<button
      class="btn btn-sm mt-3"
      onclick={() => void found.query.fetchNextPage()}>Show more</button
    >{/if}
{:else if found.query.data && !adding}
  <div class="sheet max-w-3xl p-4">
    <p>
      A pipeline, a script or a wall display calls the API with a token of its own, and does what
      its rights allow. Its token expires, is replaced side by side and is found when it leaks, as
      any credential.
    </p>
  </div>
{/if}
