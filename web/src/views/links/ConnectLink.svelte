<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { searchParams } from 'sv-router'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import SignInOutcome from '../../lib/SignInOutcome.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { logOut, session } from '../../lib/session.svelte'
  import LogIn from '../LogIn.svelte'

  let { token }: { token: string } = $props()
  const found = createQuery(() => ({
    queryKey: ['asked-connect', token],
    queryFn: () => ok(api.GET('/api/links/accounts/{token}', { params: { path: { token } } })),
  }))
  /** The sign-in that somebody has come back from. */
  const came = $derived(String(searchParams.get('signed-in') ?? ''))
  const host = (address: string) => new URL(address).host
  $effect(() => {
    const asked = found.data
    if (came && asked?.goes_on_to && asked.connected_as) window.location.assign(asked.goes_on_to)
  })
  const acts = acting('asked')
  const connect = (ref: string) =>
    acts.run(async () => {
      const begun = await ok(
        api.POST('/api/connections/{ref}/sign-ins', {
          params: { path: { ref } },
          body: { back: found.data?.goes_on_to ? window.location.pathname : '/accounts' },
        }),
      )
      window.location.assign(begun.address)
    })
</script>

<svelte:head><title>Connect your account · Neat Latch</title></svelte:head>
<div class="mx-auto max-w-xl px-5 pt-10">
  <Loading query={found} />
  {#if found.data}
    {@const asked = found.data}
    {#if session.who}<h1 class="mb-2">Connect your account</h1>{/if}
    <p class="mb-3">
      {asked.asked_by} asks <strong>{asked.person}</strong> to connect an account of their own at
      <strong>{asked.application}</strong>,
      {asked.environment}.{#if asked.expected}<span class="ms-1"
          >It is <span class="value">{asked.expected}</span> there.</span
        >{/if}
    </p>
    {#if !asked.serves}<p class="bg-bad-ground rounded-md px-3 py-2">
        The account is shared now; nothing is left to do.
      </p>
    {:else if asked.connected_as}<p role="status" class="bg-slate-ground rounded-md px-3 py-2">
        Done: connected as {asked.connected_as}. {#if asked.goes_on_to}<a
            class="act"
            href={asked.goes_on_to}>Go on to {host(asked.goes_on_to)}</a
          >{:else}<a class="act" href="/accounts">My accounts</a>{/if}
      </p>
    {:else if session.who && session.who.username !== asked.username}
      <p class="bg-wait-ground mb-3 rounded-md px-3 py-2">
        You are logged in as {session.who.person}. This link is for {asked.person}.
      </p>
      <button class="btn btn-sm" onclick={() => void logOut()}>Log out</button>
    {:else if session.who}
      <SignInOutcome />
      <p class="mb-3">
        You are sent to {asked.application} to sign in there, and {#if asked.goes_on_to}then on to
          <span class="value">{host(asked.goes_on_to)}</span>.{:else}brought back.{/if}
      </p>
      <button class="btn btn-primary" disabled={acts.busy} onclick={() => connect(asked.ref)}
        >Connect my account</button
      >
      {#if asked.goes_back_to}<a class="act ms-3" href={asked.goes_back_to}
          >Go back without connecting</a
        >{/if}
    {:else}<p class="help">Log in first; the link alone gives no access.</p>{/if}
    <ProblemBox problem={acts.problem} />
  {/if}
</div>
{#if found.data && !session.who && found.data.serves && !found.data.connected_as}<LogIn />{/if}
