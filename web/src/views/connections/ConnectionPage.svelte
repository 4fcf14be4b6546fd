<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { searchParams } from 'sv-router'
  import { api, ok, type PinOut, type Schemas } from '../../api/client'
  import DecommissionButton from '../../lib/DecommissionButton.svelte'
  import EndOf from '../../lib/EndOf.svelte'
  import { clock } from '../../lib/clock.svelte'
  import { acting } from '../../lib/acting.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import SignInOutcome from '../../lib/SignInOutcome.svelte'
  import NotesCard from '../../lib/NotesCard.svelte'
  import { may } from '../../lib/session.svelte'
  import { exact, fromNow } from '../../lib/time'
  import When from '../../lib/When.svelte'
  import { STATES } from '../../lib/words'
  import { goto, reference } from '../../router'
  import DrawsCard from './DrawsCard.svelte'
  import EditCaller from './EditCaller.svelte'
  import PutCertificate from './PutCertificate.svelte'
  import NameCard from './NameCard.svelte'
  import PutSecret from './PutSecret.svelte'
  import ShearLine from './ShearLine.svelte'
  import SignedCallsCard from './SignedCallsCard.svelte'
  import TestCard from './TestCard.svelte'
  import AccountsCard from '../accounts/AccountsCard.svelte'
  import WorkloadsCard from './WorkloadsCard.svelte'

  const ref = $derived(reference())
  const found = createQuery(() => ({
    queryKey: ['connection', ref],
    queryFn: () => ok(api.GET('/api/connections/{ref}', { params: { path: { ref } } })),
  }))
  const signedIn = $derived(String(searchParams.get('signed-in') ?? ''))
  const acts = acting('connection')
  const run = acts.run
  let watching = $state<string | null>(null)
  let open = $state<'' | 'edit' | 'secret' | 'client' | 'certificate'>(
    ['secret', 'signing_secret'].includes(String(searchParams.get('put')))
      ? 'secret'
      : searchParams.get('put') === 'certificate'
        ? 'certificate'
        : '',
  )
  let which = $state(searchParams.get('put') === 'signing_secret' ? 'signing_secret' : '')
  let said = $state<string[]>(
    searchParams.get('cleaned') ? [String(searchParams.get('cleaned'))] : [],
  )
  const out = $derived(
    (found.data?.pins ?? []).filter((pin) => pin.fit === 'differs' || pin.fit === 'missing'),
  )
  const NUMBERS = ['No', 'One', 'Two', 'Three', 'Four', 'Five', 'Six']
  const heading = $derived(
    out.length
      ? `${NUMBERS[out.length] ?? out.length} ${out.length === 1 ? 'pin' : 'pins'} out of line`
      : (STATES[found.data?.state ?? ''] ?? ''),
  )

  const test = () =>
    run(async () => {
      const begun = await ok(
        api.POST('/api/connections/{ref}/tests', { params: { path: { ref } } }),
      )
      watching = begun.id
    })
  let renewal = $state<Schemas['RenewalOut'] | null>(null)
  const renew = () =>
    acts.run(async () => {
      renewal = null
      renewal = await ok(api.POST('/api/connections/{ref}/renewals', { params: { path: { ref } } }))
    })
  const decide = (use: boolean) =>
    acts.run(() =>
      ok(
        api.POST('/api/connections/{ref}/set-aside', { params: { path: { ref } }, body: { use } }),
      ),
    )
  const signIn = () =>
    run(async () => {
      const begun = await ok(
        api.POST('/api/connections/{ref}/sign-ins', {
          params: { path: { ref } },
          body: { back: `/connections/${ref}` },
        }),
      )
      window.location.assign(begun.address)
    })

  function doAct(pin: PinOut, act: PinOut['acts'][number]): void {
    if (act.key === 'test') void test()
    else if (act.key === 'sign_in') void signIn()
    else if (act.key === 'put_secret') openSecret(act.value)
    else if (act.key === 'put_certificate') open = 'certificate'
    else if (act.key === 'edit') open = 'edit'
    else if (act.key === 'choose_client') open = 'client'
    else if (act.key === 'ask_consent') goto(`/clients/${found.data!.client}/scopes`)
    else if (act.key === 'see_accounts') document.getElementById('accounts')?.focus()
    else if (act.key === 'see_workloads') document.getElementById('workloads')?.focus()
    else if (act.key === 'open_client') goto(`/clients/${found.data!.client}`)
    else if (act.key === 'open_application') goto(`/applications/${found.data!.application}`)
    else
      void run(() =>
        ok(
          api.POST('/api/connections/{ref}/acts', {
            params: { path: { ref } },
            body: { pin: pin.key, key: act.key, value: act.value },
          }),
        ),
      )
  }
  function openSecret(key: string): void {
    which = key
    open = 'secret'
  }
  function closed(notes: Record<string, string[]>): void {
    open = ''
    said = Object.values(notes).flat()
    if (searchParams.get('put')) searchParams.delete('put')
  }
  const clear = () =>
    run(() => ok(api.POST('/api/connections/{ref}/clearances', { params: { path: { ref } } })))
  const choose = (client: string) =>
    run(() =>
      ok(
        api.POST('/api/connections/{ref}/clients', { params: { path: { ref } }, body: { client } }),
      ),
    ).then(() => (open = ''))
</script>

<svelte:head><title>{ref} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  {@const connection = found.data}
  <header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
    <h1>
      <a href="/applications/{connection.application}" class="hover:underline"
        >{connection.application_name}</a
      >
    </h1>
    <span class="value text-soft">{connection.ref}</span>
    <EnvBadge environment={connection.environment} />
    <strong
      class={out.length || connection.state === 'unlatched' || connection.state === 'sticking'
        ? 'text-error'
        : connection.state === 'latched'
          ? 'text-success'
          : 'text-warning'}
      data-state={connection.state}>{heading}{connection.paused ? ', not in rounds' : ''}</strong
    >
    <span class="flex flex-wrap gap-3 lg:ms-auto">
      {#if may('change')}<a class="btn btn-sm" href="/connections/{ref}/set-up">Set up</a>
        <button
          class="btn btn-sm"
          data-key="e"
          onclick={() => (open = open === 'edit' ? '' : 'edit')}
          >Edit our side <kbd class="value text-[0.85em]">E</kbd></button
        >{/if}
      {#if connection.signs_person_in && !connection.individual && may('test')}<button
          class="btn btn-sm"
          disabled={acts.busy}
          onclick={signIn}>{connection.signed_in ? 'Sign in again' : 'Sign in'}</button
        >{/if}
      {#if may('test')}<button
          class="btn btn-primary btn-sm"
          data-key="t"
          disabled={acts.busy}
          onclick={test}
          >Test now <kbd class="value rounded border border-current px-1 text-[0.85em]">T</kbd
          ></button
        >{/if}
    </span>
  </header>
  <SignInOutcome hidden={(how) => how === 'wrong_account' && Boolean(connection.set_aside)} />
  {#if connection.waiting_sign_in && !signedIn}
    <p role="status" class="bg-wait-ground mb-3 rounded-md px-3 py-2">
      A sign-in has not come back; it began <When at={connection.waiting_sign_in} />. If it was
      refused, compare redirect URI and client ID below, then sign in again.
    </p>
  {/if}
  {#if connection.set_aside}
    <p role="status" class="bg-bad-ground mb-3 rounded-md px-3 py-2" data-set-aside>
      {connection.set_aside.account} signed in <When at={connection.set_aside.at} />, and
      {connection.values.account || 'another'} was expected. {connection.signed_in
        ? 'What was held before still serves.'
        : 'No token is in use.'}
      {#if may('test')}
        <button class="act ms-2" disabled={acts.busy} onclick={() => decide(true)}
          >Use {connection.set_aside.account}</button
        >
        <button class="act ms-2" disabled={acts.busy} onclick={() => decide(false)}
          >End those tokens</button
        >
      {/if}
    </p>
  {/if}
  {#if said.length}<p role="status" class="bg-wait-ground mb-3 rounded-md px-3 py-2">
      Cleaned: {said.join('; ')}.
      <button class="act ms-3" onclick={() => (said = [])}>Close</button>
    </p>{/if}
  {#if acts.problem}<div class="mb-3"><ProblemBox problem={acts.problem} /></div>{/if}
  {#if connection.uncleared?.length}
    <p role="alert" class="bg-bad-ground mb-3 rounded-md px-3 py-2">
      {#each connection.uncleared as entry, at (at)}{entry.what}
        <span class="value">{entry.hint}</span>
        goes to {entry.goes_to} and would go to {entry.would_go_to}.
      {/each}
      Until somebody clears that, it is sent nowhere: not tested, not drawn.
      {#if may('change')}<button class="act ms-2" disabled={acts.busy} onclick={clear}
          >Clear it, or discard it</button
        >{/if}
    </p>
  {/if}
  {#if open === 'edit'}<EditCaller {connection} done={closed} />{/if}
  {#if open === 'secret' && may('change')}{#key which}<PutSecret
        {connection}
        {which}
        done={closed}
      />{/key}{/if}
  {#if open === 'certificate' && may('change')}<PutCertificate {connection} done={closed} />{/if}
  {#if open === 'client'}
    <section class="sheet mb-4 p-4">
      <h2 class="mb-1">Name the client registration</h2>
      {#each connection.choices as choice (choice.id)}
        <p>
          <button class="act" onclick={() => choose(choice.id)}>{choice.name}</button>
          <span class="value text-soft">{choice.client_id}</span>
          {choice.environment}
        </p>
      {:else}<p>
          None is registered. <a
            class="act"
            href="/applications/{connection.application}/clients/new">Register client</a
          >
        </p>{/each}
      <button class="act" onclick={() => (open = '')}>Cancel</button>
    </section>
  {/if}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_356px] items-start gap-4">
    <div class="flex min-w-0 flex-col gap-3">
      <ShearLine pins={connection.pins} act={doAct} busy={acts.busy} />
      {#key connection.ref}<NotesCard of="connections" id={connection.ref} />{/key}
    </div>
    <div class="flex flex-col gap-3">
      {#key connection.ref}<TestCard {connection} {watching} />{/key}
      {#if connection.individual}{@render whose()}{/if}
      <WorkloadsCard {connection} />
      {#key connection.ref}<NameCard {connection} />{/key}
      <section class="sheet p-4" aria-labelledby="due-title">
        <h2 id="due-title">Coming due</h2>
        {#each connection.due as entry (entry.what)}
          <p class="flex min-h-[26px] items-baseline gap-3">
            <span>{entry.what}</span>
            <span class="ms-auto text-end"
              >{#if entry.at}<time datetime={entry.at} title={exact(entry.at)}
                  >{fromNow(entry.at, clock.now)}</time
                >{/if}{entry.at && entry.says ? ' · ' : ''}<span class="text-soft"
                >{entry.says}</span
              >{#if ['put_secret', 'put_certificate'].includes(entry.act) && may('change')}
                {#if entry.at || entry.says}·{/if}
                <button
                  class="act"
                  onclick={() =>
                    entry.act === 'put_certificate'
                      ? (open = 'certificate')
                      : openSecret(entry.key)}>replace</button
                >{:else if entry.act === 'sign_in' && !connection.individual && may('test')}
                <button class="act" onclick={signIn}>sign in again</button>{/if}</span
            >
          </p>
          {#if entry.credential}<div class="text-end">
              <EndOf id={entry.credential} ends={entry.at} hint={entry.what} />
            </div>{/if}
        {:else}<p class="help">Nothing yet: no token and no secret.</p>{/each}
        {#if connection.renewable && may('test')}<p>
            <button class="act" disabled={acts.busy} onclick={renew}>Test renewal</button>
            {#if renewal}<span
                role="status"
                class={renewal.renewed ? 'text-success' : 'text-error font-semibold'}
                >{renewal.says}</span
              >{/if}
          </p>{/if}
        {#if connection.client}<p class="mt-1 flex flex-wrap gap-x-4">
            <a class="act" href="/clients/{connection.client}">The client at the provider</a>
            <a class="act" href="/clients/{connection.client}/scopes">Scopes</a>
          </p>{/if}
        <p class="flex flex-wrap gap-x-4">
          <a class="act" href="/api/connections/{ref}/exports?format=env" download>Export as .env</a
          >
          <a class="act" href="/api/connections/{ref}/exports?format=properties" download
            >as .properties</a
          >
        </p>
      </section>
      {#if connection.signs_calls}{#key connection.ref}<SignedCallsCard
            {connection}
            put={() => openSecret('signing_secret')}
          />{/key}{/if}
      {#if !connection.individual}{#key connection.ref}<DrawsCard ref={connection.ref} />{/key}{/if}
      {#if connection.signs_person_in && !connection.individual}{@render whose()}{/if}
      {#if may('change')}<section class="sheet p-4">
          <h2 class="mb-1">End of use</h2>
          <p class="help mb-2">
            Who still uses it, revoke, prove that it is refused, forget its secrets: a page leads
            through it.
          </p>
          <DecommissionButton of="connections" id={connection.ref} name={connection.ref} />
        </section>{/if}
    </div>
  </div>
  {#snippet whose()}{#key connection.version}<AccountsCard {connection} />{/key}{/snippet}
{/if}
