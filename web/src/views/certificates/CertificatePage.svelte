<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, once, Problem } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import { download } from '../../lib/files'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import SigningRequest from '../../lib/SigningRequest.svelte'
  import { may } from '../../lib/session.svelte'
  import SubNav from '../../lib/SubNav.svelte'
  import When from '../../lib/When.svelte'
  import { goto, param } from '../../router'
  import Handover from '../clients/Handover.svelte'
  import ChainDrawing from './ChainDrawing.svelte'
  import LinkFacts from './LinkFacts.svelte'
  import { REASONS } from './reasons'
  import Verdict from './Verdict.svelte'

  const id = $derived(param('id'))
  const path = $derived({ params: { path: { identity: id } } })
  const acts = acting('certificate')
  const found = createQuery(() => ({
    queryKey: ['certificate', id],
    queryFn: () => ok(api.GET('/api/certificates/{identity}', path)),
  }))
  let open = $state<'' | 'renew' | 'revoke'>('')
  let form = $state({ request: '', reason: 'superseded', why: '' })
  const sent = once()
  const errors = $derived(acts.problem instanceof Problem ? acts.problem.errors : {})

  const renew = (event: Event) => {
    event.preventDefault()
    void acts.run(async () => {
      const body = { request: form.request, days: 0 }
      const headers = sent.headers([path, body])
      const made = await ok(
        api.POST('/api/certificates/{identity}/renewals', { ...path, body, headers }),
      )
      sent.over()
      open = ''
      goto(`/certificates/${made.id}`)
    })
  }
  const revoke = (event: Event) => {
    event.preventDefault()
    void acts.run(async () => {
      await ok(
        api.POST('/api/certificates/{identity}/revocations', {
          ...path,
          body: { reason: form.reason, why: form.why },
        }),
      )
      open = ''
    })
  }
</script>

<svelte:head><title>Certificate {found.data?.common_name ?? ''} · Neat Latch</title></svelte:head>
<SubNav group="credentials" />
<Loading query={found} />
{#if found.data}
  {@const shown = found.data}
  {@const lives = shown.state === 'lives'}
  <header class="mb-3 flex flex-wrap items-baseline gap-x-4">
    <h1>{shown.common_name}</h1>
    <span class={lives ? 'text-success font-semibold' : 'text-error font-semibold'}
      >{lives ? 'valid' : shown.revoked ? 'revoked' : 'expired'}</span
    >
    <span
      >{shown.profile === 'server'
        ? `servers of ${shown.application}`
        : `a client of ${shown.application}`}, {shown.environment}</span
    >
    {#if may('change')}<span class="ms-auto flex gap-2">
        {#if shown.state !== 'revoked'}<button
            class="btn btn-sm"
            onclick={() => (open = open === 'renew' ? '' : 'renew')}>Renew certificate</button
          >{/if}
        {#if lives}<button
            class="btn btn-sm"
            onclick={() => (open = open === 'revoke' ? '' : 'revoke')}>Revoke certificate</button
          >{/if}
      </span>{/if}
  </header>
  {#if may('change')}<div class="mb-4">
      <Handover id={shown.handover} house certificate done={() => void found.refetch()} />
    </div>{/if}
  {#if open === 'renew'}
    <form class="sheet mb-4 max-w-2xl p-4" onsubmit={renew}>
      <h2 class="mb-2">Renew certificate</h2>
      <p class="mb-2">
        A new certificate with the same names and a new key. This one remains valid until it expires
        or is revoked.
      </p>
      {#if shown.by_request}<SigningRequest
          id="renew-request"
          label="New signing request (PEM)"
          bind:value={form.request}
          error={errors.request}
          help="Made with a new key, which stays with its holder."
          required
        />{/if}
      <button class="btn btn-primary btn-sm" disabled={acts.busy}>Issue the new one</button>
      <button type="button" class="btn btn-sm" onclick={() => (open = '')}>Cancel</button>
    </form>
  {:else if open === 'revoke'}
    <form class="sheet mb-4 max-w-2xl p-4" onsubmit={revoke}>
      <h2 class="mb-2">Revoke certificate</h2>
      <p class="bg-bad-ground mb-2 rounded-md px-3 py-2">
        It comes on the revocation list at once, and receivers refuse it within seconds. {shown
          .connections.length
          ? `${shown.connections.join(', ')} would stop.`
          : 'No connection here holds it.'} It cannot be undone.
      </p>
      <Field id="reason" label="Reason on the list" error={errors.reason}>
        <select id="reason" class="line-in" bind:value={form.reason}>
          {#each REASONS as [key, words] (key)}<option value={key}>{words}</option>{/each}
        </select>
      </Field>
      <Field id="why" label="Why, for the journal">
        <input id="why" class="line-in" bind:value={form.why} maxlength="200" />
      </Field>
      <button class="btn btn-error btn-sm" disabled={acts.busy}>Revoke {shown.hint}</button>
      <button type="button" class="btn btn-sm" onclick={() => (open = '')}>Cancel</button>
    </form>
  {/if}
  {#if !Object.keys(errors).length}<ProblemBox problem={acts.problem} />{/if}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_420px] items-start gap-4">
    <div class="flex flex-col gap-4">
      <section class="sheet p-4" aria-labelledby="chain">
        <h2 id="chain" class="mb-2">Its chain</h2>
        <Verdict chain={shown.chain} />
        <ChainDrawing chain={shown.chain} />
        <div class="mt-3 flex gap-2">
          <button
            class="btn btn-sm"
            onclick={() =>
              download(`${shown.common_name.replaceAll(' ', '-').toLowerCase()}.pem`, shown.pem)}
            >Download the chain (PEM)</button
          >
        </div>
      </section>
      <section class="sheet p-4">
        <h2 class="mb-1">Whose it is</h2>
        <p><a class="act" href="/clients/{shown.client_key}">{shown.client}</a></p>
        {#each shown.connections as ref (ref)}<p>
            <a class="act value" href="/connections/{ref}">{ref}</a> shows it
          </p>{/each}
        <p class="help">
          {shown.by_request
            ? 'Its key was made by its holder and was never here.'
            : 'Its key was made here.'}
          <When at={shown.issued} prefix="Issued " />.
        </p>
        {#if shown.replaces}<p>
            <a class="act" href="/certificates/{shown.replaces}">The one it replaces</a>
          </p>{/if}
        {#if shown.replaced_by}<p>
            <a class="act" href="/certificates/{shown.replaced_by}">The one that replaces it</a>
          </p>{/if}
        {#if shown.revoked}<p class="text-error">
            Revoked <When at={shown.revoked} />: {shown.reason}{shown.why ? `, ${shown.why}` : ''}
          </p>{/if}
        <p class="mt-1"><a class="act" href="/credentials/{shown.id}">Full history</a></p>
      </section>
    </div>
    <div class="flex flex-col gap-4">
      <section class="sheet p-4">
        <h2 class="mb-1">What it says</h2>
        <LinkFacts link={shown.chain.links[0]!} />
      </section>
    </div>
  </div>
{/if}
