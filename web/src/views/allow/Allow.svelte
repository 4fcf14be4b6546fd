<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { logOut } from '../../lib/session.svelte'
  import { param } from '../../router'

  const id = $derived(param('id'))
  const found = createQuery(() => ({
    queryKey: ['asked-to-allow', id],
    queryFn: () =>
      ok(api.GET('/api/house/requests/{identity}', { params: { path: { identity: id } } })),
  }))
  const acts = acting('asked')
  let gone = $state(false)
  const host = (uri: string) => /^[a-z][\w+.-]*:\/\/([^/?#]+)/i.exec(uri)?.[1] ?? uri.split(':')[0]

  async function answer(allow: boolean): Promise<void> {
    const params = { path: { identity: id } }
    const sent = await acts.run(() =>
      ok(api.POST('/api/house/requests/{identity}/answers', { params, body: { allow } })),
    )
    if (!sent) return
    gone = true
    location.assign(sent.location)
  }
</script>

<svelte:head><title>Allow a program? · Neat Latch</title></svelte:head>
<div class="mx-auto max-w-2xl py-6">
  <Loading query={found} />
  {#if found.data}
    {@const asked = found.data}
    {#if asked.refused}
      <h1 class="mb-2">This cannot be asked</h1>
      <p class="bg-bad-ground mb-3 rounded-md px-3 py-2" role="alert">{asked.refused}</p>
      <p>
        You were sent here by {asked.client
          ? `the program ${asked.client}`
          : 'a program that is not known here'}. Tell the person responsible for it; going back and
        trying again will not help.
      </p>
    {:else}
      <h1 class="mb-2">Allow {asked.client}?</h1>
      <p class="mb-4 flex flex-wrap items-center gap-x-2">
        It asks to use <strong>{asked.application}</strong>
        {#if asked.environment}<EnvBadge environment={asked.environment} />{:else}<span
            >in all environments</span
          >{/if}
        in your name, {asked.person}.
      </p>
      <section class="sheet mb-4" aria-label="What it asks for">
        <table class="rows">
          <thead><tr><th>It could</th><th>Scope</th></tr></thead>
          <tbody>
            {#each asked.scopes as entry (entry.name)}<tr
                ><td>{entry.meaning || '—'}</td><td class="value">{entry.name}</td></tr
              >{:else}<tr><td colspan="2">It asks for no scope, only to know who you are.</td></tr
              >{/each}
          </tbody>
        </table>
      </section>
      <ProblemBox problem={acts.problem} />
      {#if asked.over}
        <p role="status" class="bg-wait-ground rounded-md px-3 py-2">
          This request is over. Begin again in the program.
        </p>
      {:else}
        <div class="flex gap-3">
          <button class="btn btn-primary" disabled={acts.busy || gone} onclick={() => answer(true)}
            >Allow access</button
          >
          <button class="btn" disabled={acts.busy || gone} onclick={() => answer(false)}
            >Refuse</button
          >
        </div>
        <p class="help mt-3">
          Either way you go back to <span class="value">{host(asked.back_to)}</span>.<br />
          Not {asked.person}?
          <button class="act" onclick={() => void logOut()}>Log in as somebody else</button>
        </p>
      {/if}
    {/if}
  {/if}
</div>
