<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ifMatch, ok, type Connection } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import CopyLine from '../../lib/CopyLine.svelte'
  import PersonField from '../../lib/PersonField.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import TeamField from '../../lib/TeamField.svelte'
  import When from '../../lib/When.svelte'

  let { connection }: { connection: Connection } = $props()
  const found = createQuery(() => ({
    queryKey: ['accounts', connection.ref],
    queryFn: () =>
      ok(api.GET('/api/connections/{ref}/accounts', { params: { path: { ref: connection.ref } } })),
  }))
  const acts = acting('connection')
  let changing = $state(false)
  let asking = $state(false)
  let username = $state('')
  let expected = $state('')
  // svelte-ignore state_referenced_locally
  let form = $state({
    individual: connection.individual,
    team: connection.team,
    tests_as: connection.tests_as,
  })
  let confirming = $state('')
  const loses = $derived(form.individual !== connection.individual && connection.signed_in)
  const path = $derived({ path: { ref: connection.ref } })

  const save = (event: Event) => {
    event.preventDefault()
    void acts
      .run(() =>
        ok(
          api.PUT('/api/connections/{ref}/sharing', {
            params: path,
            body: form,
            headers: ifMatch(connection.version),
          }),
        ),
      )
      .then(() => {
        if (!acts.problem) changing = false
      })
  }
  const ask = (event: Event) => {
    event.preventDefault()
    void acts
      .run(() =>
        ok(
          api.POST('/api/connections/{ref}/accounts', {
            params: path,
            body: { username, expected },
          }),
        ),
      )
      .then(() => {
        if (acts.problem) return
        asking = false
        username = ''
        expected = ''
      })
  }
  const signInForTests = () =>
    acts.run(async () => {
      const body = { back: `/connections/${connection.ref}`, for_tests: true }
      const begun = await ok(api.POST('/api/connections/{ref}/sign-ins', { params: path, body }))
      window.location.assign(begun.address)
    })
  const disconnect = (who: string, forget: boolean) =>
    acts.run(() =>
      ok(
        api.DELETE('/api/connections/{ref}/accounts/{username}', {
          params: { path: { ref: connection.ref, username: who }, query: { forget } },
        }),
      ),
    )
</script>

<section class="sheet p-4" aria-labelledby="accounts-title" id="accounts" tabindex="-1">
  <header class="flex items-baseline">
    <h2 id="accounts-title">Whose account</h2>
    {#if may('change')}<button
        class="act ms-auto"
        onclick={() => (
          (changing = !changing),
          (form = {
            individual: connection.individual,
            team: connection.team,
            tests_as: connection.tests_as,
          })
        )}>{changing ? 'Cancel' : 'Change'}</button
      >{/if}
  </header>
  {#if changing}
    <form class="mt-1" onsubmit={save}>
      <label class="flex min-h-[26px] items-center gap-2"
        ><input type="radio" bind:group={form.individual} value={false} /> One shared account</label
      >
      <label class="flex min-h-[26px] items-center gap-2"
        ><input type="radio" bind:group={form.individual} value={true} /> One for each person</label
      >
      <label class="mt-1 block" for="of-team"
        ><span class="label-text">Belongs to the team</span><TeamField
          id="of-team"
          bind:value={form.team}
        /></label
      >
      {#if form.individual}<label class="mt-1 block"
          ><span class="label-text">Service account that tests use</span><input
            class="line-in value"
            spellcheck="false"
            bind:value={form.tests_as}
          /><span class="help"
            >Without one, tests sign in as one of the people and call nothing.</span
          ></label
        >{/if}
      {#if loses}<label class="mt-2 block"
          ><span class="text-error font-semibold"
            >The tokens that are held now are ended, and its workloads stop until somebody signs in.
            To go on, type {connection.ref}</span
          ><input class="line-in" bind:value={confirming} /></label
        >{/if}
      <button
        class="btn btn-primary btn-sm mt-2"
        disabled={acts.busy || (loses && confirming !== connection.ref)}>Save</button
      >
    </form>
  {:else if found.data}
    {#if !found.data.individual}
      <p>
        One account, shared{found.data.shared_account ? `: ${found.data.shared_account}` : ''}{found
          .data.team
          ? `. It belongs to ${found.data.team}.`
          : '. It belongs to no team.'}
      </p>
    {:else}
      <p class="help">
        Each person their own{found.data.team ? `; team ${found.data.team}` : ''}. {found.data
          .connected} of {found.data.of_all} have connected.
      </p>
      {#if found.data.tests_as}
        <p class="flex flex-wrap items-baseline gap-x-3">
          <span>Tests use <span class="value">{found.data.tests_as}</span></span>
          {#if found.data.tests_signed_in_at}<span class="help"
              ><When at={found.data.tests_signed_in_at} prefix="signed in " /></span
            >
          {:else}<span class="text-warning">never signed in as it</span>{/if}
          {#if may('test')}<button class="act" disabled={acts.busy} onclick={signInForTests}
              >{found.data.tests_signed_in_at ? 'Sign in again as it' : 'Sign in as it'}</button
            >{/if}
        </p>
      {:else}<p class="help">No service account is named for tests.</p>{/if}
      {#each found.data.people as person (person.username)}
        <div class="border-base-300 border-t py-1">
          <p class="flex items-baseline gap-3">
            <a class="act" href="/people/{person.username}">{person.name}</a>
            <span
              class="ms-auto text-end {person.wrong || person.left
                ? 'text-error font-semibold'
                : person.connected_at
                  ? 'text-success'
                  : 'text-warning'}"
              >{person.left
                ? 'has left, still connected'
                : person.wrong
                  ? `wrong account: ${person.account}`
                  : person.connected_at
                    ? person.account || 'connected'
                    : 'not connected'}</span
            >
          </p>
          <p class="help flex flex-wrap gap-x-3">
            {#if person.connected_at}{person.refused
                ? 'cannot be renewed'
                : person.renews
                  ? 'renews itself'
                  : ''}
              {#if person.ends && !person.renews}<When at={person.ends} prefix="expires " />{/if}
              {#if may('change')}<button
                  class="act"
                  onclick={() => disconnect(person.username, !person.wanted)}>Disconnect</button
                >{/if}
            {:else}{#if person.asked_at}<When at={person.asked_at} prefix="asked " />{/if}
              {#if may('change')}<button
                  class="act"
                  onclick={() => (
                    (asking = true),
                    (username = person.username),
                    (expected = person.expected)
                  )}>{person.asked_at ? 'Ask again' : 'Ask by a link'}</button
                >{/if}{/if}
          </p>
          {#if person.link}<CopyLine
              text={person.link}
              what="the link that asks {person.name} to connect"
            />{/if}
        </div>
      {/each}
      {#if found.data.of_all > found.data.people.length}<p class="help mt-1">
          and {found.data.of_all - found.data.people.length} more
        </p>{/if}
      {#if may('change') && !asking}<button class="act mt-1" onclick={() => (asking = true)}
          >Ask somebody else</button
        >{/if}
      {#if asking}
        <form class="border-base-300 mt-1 border-t pt-2" onsubmit={ask}>
          <label class="block"
            ><span class="label-text">Whom</span><PersonField
              id="whom"
              bind:value={username}
            /></label
          >
          <label class="mt-1 block"
            ><span class="label-text">Their account there, if you know it</span><input
              class="line-in value"
              spellcheck="false"
              bind:value={expected}
            /></label
          >
          <div class="mt-2 flex gap-3">
            <button class="btn btn-primary btn-sm" disabled={!username || acts.busy}
              >Create link</button
            >
            <button type="button" class="btn btn-sm" onclick={() => (asking = false)}>Cancel</button
            >
          </div>
        </form>
      {/if}
    {/if}
  {/if}
  <ProblemBox problem={acts.problem} />
</section>
