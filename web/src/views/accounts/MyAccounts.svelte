<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import SignInOutcome from '../../lib/SignInOutcome.svelte'
  import { session } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'

  const list = createQuery(() => ({
    queryKey: ['my-accounts'],
    queryFn: () => ok(api.GET('/api/accounts')),
  }))
  const tests = createQuery(() => ({
    queryKey: ['my-tests'],
    queryFn: () => ok(api.GET('/api/accounts/tests')),
  }))
  const lastOf = (ref: string) =>
    (tests.data ?? []).filter((test) => test.connection === ref).slice(0, 3)
  const acts = acting('connection')
  const connect = (ref: string) =>
    acts.run(async () => {
      const begun = await ok(
        api.POST('/api/connections/{ref}/sign-ins', {
          params: { path: { ref } },
          body: { back: '/accounts' },
        }),
      )
      window.location.assign(begun.address)
    })
  const disconnect = (ref: string) =>
    acts.run(() =>
      ok(
        api.DELETE('/api/connections/{ref}/accounts/{username}', {
          params: { path: { ref, username: session.who!.username! } },
        }),
      ),
    )
</script>

<svelte:head><title>My accounts · Neat Latch</title></svelte:head>
<header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
  <h1>My accounts</h1>
  <span class="help">where I am asked to connect an account of my own</span>
</header>
<SignInOutcome />
{#if acts.problem}<div class="mb-3"><ProblemBox problem={acts.problem} /></div>{/if}
<Loading query={list} />
{#if list.data}
  {#each list.data as entry (entry.ref)}
    <section
      class="sheet mb-3 flex flex-wrap items-center gap-x-5 gap-y-1 p-4"
      aria-labelledby="mine-{entry.ref}"
    >
      <div class="min-w-[16rem]">
        <h2 id="mine-{entry.ref}">{entry.application}</h2>
        <p class="help">{entry.purpose}</p>
      </div>
      <EnvBadge environment={entry.environment} />
      <div class="min-w-0 flex-1">
        {#if entry.connected_at}
          <p class={entry.wrong ? 'text-error font-semibold' : 'text-success font-semibold'}>
            {entry.wrong ? '✗ The wrong account' : '✓ Connected'}{entry.account
              ? ` as ${entry.account}`
              : ''}
          </p>
          <p class="help">
            <When at={entry.connected_at} prefix="connected " />{entry.refused
              ? `; it cannot be renewed: ${entry.refused}`
              : entry.renews
                ? '; it renews itself'
                : ''}{#if entry.ends && !entry.renews}; <When
                at={entry.ends}
                prefix="expires "
              />{/if}
          </p>
        {:else}
          <p class="text-warning font-semibold">Not connected yet</p>
          {#if entry.asked_by}<p class="help">
              {entry.asked_by} asked you <When at={entry.asked_at} />
            </p>{/if}
        {/if}
        {#if entry.connected_at}
          <p class="help">
            {entry.tests_do}
            {#each lastOf(entry.ref) as test, at (at)}{at ? ', ' : ' Last: '}{test.begun_by}
              <When at={test.begun} />{test.passed === false ? ', in vain' : ''}{/each}
          </p>
        {/if}
        {#if entry.expected}<p class="help">
            Your account there is <span class="value">{entry.expected}</span>. Pick it at their
            page.
          </p>{/if}
      </div>
      <button
        class="btn btn-sm {entry.connected_at ? '' : 'btn-primary'}"
        disabled={acts.busy}
        onclick={() => connect(entry.ref)}
        >{entry.connected_at ? 'Connect again' : 'Connect my account'}</button
      >
      {#if entry.connected_at}<button
          class="btn btn-sm"
          disabled={acts.busy}
          onclick={() => disconnect(entry.ref)}
          aria-label="Disconnect my account at {entry.application}">Disconnect</button
        >{/if}
    </section>
  {:else}
    <p class="sheet max-w-xl p-6">
      No connection asks you for an account of your own. Connections for which each person connects
      an account of their own appear here.
    </p>
  {/each}
{/if}
