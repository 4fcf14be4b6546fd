<script lang="ts">
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import When from '../../lib/When.svelte'
  import { capital } from '../../lib/words'
  import Drawer from './Drawer.svelte'

  /** ``again``: look once more, after something was ended. */
  let { found, again }: { found: Schemas['LeakOut']; again: () => Promise<void> } = $props()
  type Held = Schemas['LeakedHeldTokenOut']

  const acts = acting('credential', 'connection')
  const why = 'it leaked'
  let ended = $state<{ ref: string; there: string } | null>(null)
  const endToken = (identity: string, number: number) =>
    acts.run(async () => {
      await ok(
        api.POST('/api/clients/{identity}/token-revocations', {
          params: { path: { identity } },
          body: { why, tokens: [number] },
        }),
      )
      await again()
    })
  const endFamily = (identity: string) =>
    acts.run(async () => {
      await ok(
        api.POST('/api/house/grants/{identity}/revocations', {
          params: { path: { identity } },
          body: { why },
        }),
      )
      await again()
    })
  const endManaging = (identity: string) =>
    acts.run(async () => {
      await ok(api.DELETE('/api/clients/{identity}/management', { params: { path: { identity } } }))
      await again()
    })
  const endSetAside = (held: Held) =>
    acts.run(async () => {
      await ok(
        api.POST('/api/connections/{ref}/set-aside', {
          params: { path: { ref: held.ref } },
          body: { use: false },
        }),
      )
      await again()
    })
  const whose = (held: Held) => (held.set_aside ? `set aside for ${held.ref}` : `of ${held.ref}`)
  const endHeld = (held: Held) =>
    acts.run(async () => {
      const { there } = await ok(
        api.POST('/api/connections/{ref}/token-revocations', {
          params: { path: { ref: held.ref } },
          body: { why, username: held.person },
        }),
      )
      ended = { ref: held.ref, there }
      await again()
    })
</script>

<ProblemBox problem={acts.problem} />
{#if ended}<p role="status" class="bg-wait-ground mb-3 rounded-md px-3 py-2">
    <a class="act value" href="/connections/{ended.ref}">{ended.ref}</a> holds its tokens no longer.
    Ended at the application: {ended.there}.
    {#if ended.there !== 'yes'}Anyone who has them gets in until they expire; revoke them in the
      application's own screens.{/if}
  </p>{/if}
{#each found.held as leaked (`${leaked.ref}${leaked.person}${leaked.refresh}${leaked.set_aside}`)}
  <section class="sheet mb-4 p-4" aria-label="Recognised: a token of {leaked.ref}">
    <header class="mb-2 flex flex-wrap items-baseline gap-x-4">
      <h2>
        {leaked.refresh ? 'Refresh token' : 'Access token'} of
        <a class="act value" href="/connections/{leaked.ref}">{leaked.ref}</a>{leaked.set_aside
          ? ', set aside'
          : ''}
      </h2>
      <span>{leaked.application}{leaked.person_name ? `, ${leaked.person_name}'s` : ''}</span>
      <span class={leaked.alive ? 'text-error font-semibold' : 'text-success font-semibold'}
        >{leaked.alive ? 'active' : 'is no longer accepted'}</span
      >
    </header>
    <p>
      {capital(leaked.says)}{#if leaked.ends}, <When at={leaked.ends} />{/if}.
    </p>
    {#if leaked.alive}
      <p>Ended, {leaked.after}.</p>
      {#if !leaked.set_aside}<p class="help">
          {leaked.workloads.length
            ? `Uses it: ${leaked.workloads.join(', ')}`
            : 'No workload of it is known.'}
        </p>{/if}
      {#if !leaked.ends_there}<p class="text-warning mt-1 font-semibold">
          It is only deleted here: there is no revocation endpoint at {leaked.application}. Revoke
          it in the application's own screens.
        </p>{/if}
      <button
        class="btn btn-error btn-sm mt-2"
        disabled={acts.busy}
        onclick={() => (leaked.set_aside ? endSetAside(leaked) : endHeld(leaked))}
        >{leaked.ends_there
          ? `End the tokens ${whose(leaked)} now`
          : `Forget the tokens ${whose(leaked)}`}</button
      >
    {/if}
  </section>
{/each}
{#each found.tokens as leaked (leaked.number)}
  <div class="bg-bad-ground mb-3 rounded-md px-3 py-2">
    An access token of <a class="act" href="/clients/{leaked.client_key}">{leaked.client}</a>:
    {#if leaked.alive}it is active, <When at={leaked.ends} prefix="expires " />.
      <button
        class="btn btn-error btn-sm ms-2"
        disabled={acts.busy}
        onclick={() => endToken(leaked.client_key, leaked.number)}>End token now</button
      >{:else}it no longer gives access.{/if}
    {#if leaked.alive && leaked.drawer}<Drawer drawer={leaked.drawer} />{/if}
  </div>
{/each}
{#each found.families as family (family.id)}
  <div class="bg-bad-ground mb-3 rounded-md px-3 py-2">
    A refresh token of <a class="act" href="/clients/{family.client_key}">{family.client}</a>, from
    what {family.person}
    allowed it:
    {#if family.alive}{family.spent
        ? 'it was used before, and ends all that came of it when it is shown again.'
        : family.public
          ? 'anyone who has it gets new tokens with it.'
          : "anyone who has it, and the client's secret too, gets new tokens with it."}
      <button
        class="btn btn-error btn-sm ms-2"
        disabled={acts.busy}
        onclick={() => endFamily(family.id)}>End all that came of it</button
      >
      <span class="help block"
        >{family.person} is asked again when {family.client} next signs in.</span
      >
    {:else}it no longer gives access.{/if}
  </div>
{/each}
{#each found.managing as leaked (leaked.client_key)}
  <div class="bg-bad-ground mb-3 rounded-md px-3 py-2">
    The token that manages the registration of <a class="act" href="/clients/{leaked.client_key}"
      >{leaked.client}</a
    >
    at {leaked.application}: anyone who has it can change the client, its redirect URIs too, or
    remove it.
    {#if leaked.house}<button
        class="btn btn-error btn-sm ms-2"
        disabled={acts.busy}
        onclick={() => endManaging(leaked.client_key)}>Remove management token</button
      >
      <span class="help block">The client stays; it is then changed here only.</span>
    {:else}<span class="help block"
        >Register another client there, name it in the connections, and remove this one: the token
        goes with it.</span
      >{/if}
  </div>
{/each}
{#each found.rights as leaked (leaked.id)}<p class="bg-bad-ground mb-3 rounded-md px-3 py-2">
    A right to register clients for {leaked.application} (<span class="value">{leaked.hint}</span>).
    <a class="act" href="/credentials/house">Remove it there</a>
  </p>{/each}
