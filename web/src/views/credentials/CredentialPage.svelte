<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { onDestroy } from 'svelte'
  import { api, ok, Problem, type Schemas } from '../../api/client'
  import EndOf from '../../lib/EndOf.svelte'
  import { acting } from '../../lib/acting.svelte'
  import Copy from '../../lib/Copy.svelte'
  import CodeField from '../../lib/CodeField.svelte'
  import Field from '../../lib/Field.svelte'
  import Loading from '../../lib/Loading.svelte'
  import NotesCard from '../../lib/NotesCard.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import SubNav from '../../lib/SubNav.svelte'
  import OwnerOf from '../../lib/OwnerOf.svelte'
  import When from '../../lib/When.svelte'
  import { capital, kindName } from '../../lib/words'
  import { param, route } from '../../router'
  import ReplaceCredential from './ReplaceCredential.svelte'

  const id = $derived(param('id'))
  const path = $derived({ path: { identity: id } })
  const acts = acting('credential')
  const giveTo = (owner: string) =>
    acts.run(
      () => ok(api.PUT('/api/credentials/{identity}/owner', { params: path, body: { owner } })),
      ['credential', id],
    )
  const found = createQuery(() => ({
    queryKey: ['credential', id],
    queryFn: () => ok(api.GET('/api/credentials/{identity}', { params: path })),
  }))
  let open = $state<'' | 'revoke' | 'reveal' | 'replace'>(
    (route.search as Record<string, unknown>).act === 'replace' ? 'replace' : '',
  )
  let form = $state({ why: '', code: '' })
  let value = $state('')
  let timer = 0
  const errors = $derived(acts.problem instanceof Problem ? acts.problem.errors : {})
  const FORMS: Record<string, string> = {
    shown: 'shown once',
    link: 'by a link',
    file: 'as an encrypted file',
  }

  type Shown = Schemas['WholeCredentialOut']
  /** A key pair of the house authority's that no connection uses: there is nothing to switch. */
  const ownKey = (credential: Shown) =>
    credential.house && credential.kind === 'private_key' && !credential.connections.length
  const dependents = (credential: Shown) =>
    credential.workload
      ? [...credential.connections, credential.workload_name]
      : credential.connections

  function hide(): void {
    clearTimeout(timer)
    value = ''
  }
  const reveal = (event: Event) => {
    event.preventDefault()
    void acts.run(async () => {
      const shown = await ok(
        api.POST('/api/credentials/{identity}/revelations', {
          params: path,
          body: { reason: form.why, code: form.code },
        }),
      )
      value = shown.value
      timer = window.setTimeout(hide, shown.hide_after_seconds * 1000)
      open = ''
      form = { why: '', code: '' }
    })
  }
  const revoke = (event: Event) => {
    event.preventDefault()
    void acts.run(async () => {
      await ok(
        api.POST('/api/credentials/{identity}/revocations', {
          params: path,
          body: { why: form.why },
        }),
      )
      open = ''
      form = { why: '', code: '' }
    })
  }
  onDestroy(hide)
</script>

<svelte:window onblur={() => value && hide()} />
<svelte:head><title>Credential {found.data?.hint ?? ''} · Neat Latch</title></svelte:head>
<SubNav group="credentials" />
<Loading query={found} />
{#if found.data}
  {@const credential = found.data}
  {@const dead = credential.over || !credential.lives}
  <header class="mb-3 flex flex-wrap items-baseline gap-x-4">
    <h1>
      {capital(kindName(credential.kind, credential.house))}
      <span class="value">{credential.hint}</span>
    </h1>
    <span class={dead ? 'text-error font-semibold' : 'text-success font-semibold'}
      >{credential.over && credential.state === 'active'
        ? 'expired'
        : credential.state === 'active'
          ? 'active'
          : credential.state}</span
    >
    {#if credential.application}<span>{credential.application}, {credential.environment}</span>{/if}
    {#if may('change')}
      <span class="ms-auto flex gap-2">
        {#if credential.replacement}<a
            class="btn btn-sm"
            href="/replacements/{credential.replacement}">It is being replaced</a
          >
        {:else if !dead && !ownKey(credential)}<button
            class="btn btn-sm"
            onclick={() => (open = open === 'replace' ? '' : 'replace')}>Replace credential</button
          >{/if}
        {#if credential.sealed && credential.reveals}<button
            class="btn btn-sm"
            onclick={() => (open = open === 'reveal' ? '' : 'reveal')}>Show it again</button
          >{/if}
        {#if credential.house && credential.kind === 'private_key'}<a
            class="btn btn-sm"
            href="/certificates/{credential.id}">Its certificate</a
          >{:else if credential.house && !dead}<button
            class="btn btn-sm"
            onclick={() => (open = open === 'revoke' ? '' : 'revoke')}>Revoke credential</button
          >{/if}
      </span>
    {/if}
  </header>
  {#if value}
    <section class="sheet border-secondary mb-4 border-2 p-4" aria-label="The secret">
      <p class="mb-2">
        It hides after a minute, or when you leave the page. That you saw it is recorded in the
        journal.
      </p>
      <p class="bg-base-200 value mb-2 rounded-md px-3 py-2" data-secret>{value}</p>
      <Copy text={value} what="the secret" />
      <button class="btn btn-primary btn-sm" onclick={hide}>Hide secret</button>
    </section>
  {/if}
  {#if open === 'replace'}
    <ReplaceCredential {id} leave={() => (open = '')} />
  {:else if open}
    <form class="sheet mb-4 max-w-2xl p-4" onsubmit={open === 'reveal' ? reveal : revoke}>
      <h2 class="mb-2">{open === 'reveal' ? 'Show it again' : 'Revoke credential'}</h2>
      {#if open === 'revoke'}<p class="bg-bad-ground mb-2 rounded-md px-3 py-2">
          Refused from now on, with every token that was got with it.
          {credential.connections.length || credential.workload
            ? `${dependents(credential).join(', ')} would stop.`
            : 'No connection here holds it.'} It cannot be undone.
        </p>{/if}
      <Field id="why" label="Why" error={errors.reason} help="It is in the journal.">
        <input id="why" class="line-in" bind:value={form.why} required maxlength="200" />
      </Field>
      {#if open === 'reveal'}<CodeField
          id="fresh-code"
          stored
          error={errors.code}
          bind:value={form.code}
        />{/if}
      <button
        class="btn btn-sm {open === 'reveal' ? 'btn-primary' : 'btn-error'}"
        disabled={acts.busy || !form.why.trim()}
        >{open === 'reveal' ? 'Show it' : `Revoke ${credential.hint}`}</button
      >
      <button type="button" class="btn btn-sm" onclick={() => (open = '')}>Cancel</button>
    </form>
  {/if}
  {#if !errors.code && !errors.reason}<ProblemBox problem={acts.problem} />{/if}
  {#each credential.marks as mark (mark.key)}
    <p
      role="status"
      class="{mark.grave ? 'bg-bad-ground' : 'bg-wait-ground'} mb-2 rounded-md px-3 py-2"
    >
      {mark.says}
    </p>
  {/each}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_380px] items-start gap-4">
    <section class="sheet p-4" aria-labelledby="life">
      <h2 id="life" class="mb-2">History</h2>
      <ol class="border-base-300 ms-1 border-s-2">
        {#each credential.life as each, at (at)}
          <li class="relative pb-2 ps-4">
            <span
              class="bg-secondary absolute top-2 -left-[5px] h-2 w-2 rounded-full"
              aria-hidden="true"
            ></span>
            <When at={each.at} /> · {each.who}: {each.did}{each.why ? `: ${each.why}` : ''}
          </li>
        {/each}
        {#if credential.ends}<li class="relative ps-4">
            <span
              class="bg-base-300 absolute top-2 -left-[5px] h-2 w-2 rounded-full"
              aria-hidden="true"
            ></span>
            <When at={credential.ends} prefix={credential.over ? 'expired ' : 'expires '} />
          </li>{/if}
      </ol>
    </section>
    <div class="flex flex-col gap-4">
      <section class="sheet p-4">
        <h2 class="mb-1">Details</h2>
        <dl class="grid grid-cols-[7.5rem_1fr] gap-x-2 gap-y-1">
          <dt class="text-soft">Client</dt>
          <dd>
            {#if credential.client_key}<a class="act" href="/clients/{credential.client_key}"
                >{credential.client}</a
              >{:else}none{/if}
          </dd>
          <dt class="text-soft">Owner</dt>
          <dd>
            <OwnerOf
              id="owner"
              owner={credential.owner}
              from={credential.owner_from}
              {acts}
              save={giveTo}
            />
          </dd>
          <dt class="text-soft">Issued</dt>
          <dd>
            <When at={credential.issued} /> · {credential.house
              ? 'by the house authority'
              : credential.source === 'registered'
                ? 'by the application'
                : 'pasted'}
          </dd>
          <dt class="text-soft">{credential.over ? 'Expired' : 'Expires'}</dt>
          <dd>
            {#if credential.ends}<When at={credential.ends} />{:else}no expiry date known{/if}
            {#if credential.end_told_by}<span class="help block">{credential.end_told_by}</span
              >{:else if credential.lives}<EndOf
                id={credential.id}
                ends={credential.ends}
                hint={credential.hint}
              />{/if}
          </dd>
          <dt class="text-soft">Kept as</dt>
          <dd>
            {credential.sealed
              ? 'a sealed value'
              : credential.house
                ? 'a digest only; it cannot be read back'
                : 'a reference only'}
          </dd>
          {#if credential.named}<dt class="text-soft">Its ID</dt>
            <dd class="value">{credential.named}</dd>{/if}
          {#if credential.fingerprint}<dt class="text-soft">Fingerprint</dt>
            <dd class="value">{credential.fingerprint}</dd>{/if}
          {#if credential.replaces}<dt class="text-soft">Replaces</dt>
            <dd>
              <a class="act value" href="/credentials/{credential.replaces_key}"
                >{credential.replaces}</a
              >
            </dd>{/if}
          {#if credential.replaced_by_key}<dt class="text-soft">Replaced by</dt>
            <dd>
              <a class="act value" href="/credentials/{credential.replaced_by_key}"
                >{credential.replaced_by}</a
              >
            </dd>{/if}
        </dl>
      </section>
      <section class="sheet p-4">
        <h2 class="mb-1">Used by</h2>
        {#each credential.connections as ref (ref)}<p>
            <a class="act value" href="/connections/{ref}">{ref}</a> holds it
          </p>{:else}<p>
            {#if credential.workload}<a class="act" href="/workloads/{credential.workload}"
                >{credential.workload_name}</a
              > draws with it{:else}No connection here holds it.{/if}
          </p>{/each}
        {#if credential.also_held_by.length}<p>
            The same value is also held by
            {#each credential.also_held_by as ref, at (ref)}{at ? ', ' : ''}<a
                class="act value"
                href="/connections/{ref}">{ref}</a
              >{/each}.
          </p>{/if}
        {#each credential.drawn_by as each (`${each.workload}${each.last}`)}<p
            class="flex items-baseline gap-3"
          >
            {#if each.workload}<a class="act" href="/workloads/{each.workload}">{each.name}</a
              >{:else}{each.name}{/if}
            <span class="text-soft ms-auto"><When at={each.last} prefix="drew it " /></span>
          </p>{/each}
        <p class="help">
          <When at={credential.last_used} prefix="last used " />{credential.last_used
            ? ''
            : 'No use of it was seen.'}
        </p>
      </section>
      {#key credential.id}<NotesCard of="credentials" id={credential.id} />{/key}
      {#if credential.receipt}<section class="sheet p-4">
          <h2 class="mb-1">Handover</h2>
          <p>
            {capital(FORMS[credential.receipt.form] ?? '')}{credential.receipt.to
              ? `, for ${credential.receipt.to}`
              : ''}: {credential.receipt.state}{credential.receipt.taken_by &&
            credential.receipt.taken
              ? ` by ${credential.receipt.taken_by}`
              : ''}.
          </p>
          {#if credential.receipt.outcome}<p class="help">
              {capital(credential.receipt.outcome)}.
            </p>{/if}
        </section>{/if}
    </div>
  </div>
{/if}
