<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import When from '../../lib/When.svelte'

  let { token }: { token: string } = $props()
  const path = $derived({ path: { token } })
  const found = createQuery(() => ({
    queryKey: ['asked-consent', token],
    queryFn: () => ok(api.GET('/api/links/consents/{token}', { params: path })),
  }))
  let given = $state<string[]>([])
  let name = $state('')
  let says = $state('')
  const acts = acting('asked')
  const errors = $derived(acts.errors)

  async function answer(event: Event, refuse = false): Promise<void> {
    event.preventDefault()
    const body = { given: refuse ? [] : given, name, says }
    await acts.run(() =>
      ok(api.POST('/api/links/consents/{token}/answers', { params: path, body })),
    )
  }
</script>

<svelte:head><title>Consent asked for · Neat Latch</title></svelte:head>
<main class="mx-auto max-w-2xl px-5 py-10">
  <Loading query={found} />
  {#if found.data}
    {@const asked = found.data}
    <h1 class="mb-2">Your consent is asked for</h1>
    <p class="mb-4">
      {asked.asked_by} asks {asked.asked_of || 'an administrator'} of
      <strong>{asked.application}</strong>, {asked.environment}, to let a client use these scopes
      for everyone: <strong>{asked.client_name}</strong>
      <span class="value">{asked.client_id}</span>.
    </p>
    <section class="sheet mb-4">
      <table class="rows">
        <thead><tr><th>Scope</th><th>What it allows</th><th>Why it is needed</th></tr></thead>
        <tbody>
          {#each asked.scopes as scope (scope.name)}
            <tr
              ><td class="value">{scope.name}</td><td>{scope.meaning || scope.kind}</td><td
                >{#each scope.why as each, at (at)}<p>{each}</p>{:else}<span class="text-soft"
                    >it is not said</span
                  >{/each}</td
              ></tr
            >
          {/each}
        </tbody>
      </table>
    </section>
    {#if asked.answered_at}
      <p role="status" class="bg-slate-ground rounded-md px-3 py-2">
        {asked.given.length ? `Consented to ${asked.given.join(', ')}` : 'Refused'} by
        {asked.answered_by}, <When at={asked.answered_at} />. Thank you; you can close this page.
      </p>
    {:else if asked.over}
      <p role="status" class="bg-bad-ground rounded-md px-3 py-2">
        This link has expired. Ask {asked.asked_by} for a new one.
      </p>
    {:else}
      <form class="sheet p-4" onsubmit={(event) => answer(event)}>
        <ol class="mb-3 list-decimal ps-5">
          <li>
            In the administration of {asked.application}, open the client
            <span class="value">{asked.client_id}</span>.
          </li>
          <li>Consent there to the scopes that you agree to.</li>
          <li>
            Say here which ones, so that they know. {asked.application} is not changed by this page.
          </li>
        </ol>
        <fieldset class="mb-3">
          <legend class="label-text">I have consented to</legend>
          {#each asked.scopes as scope (scope.name)}<label
              class="flex min-h-[26px] items-center gap-2"
              ><input type="checkbox" value={scope.name} bind:group={given} />
              <span class="value">{scope.name}</span></label
            >{/each}
        </fieldset>
        <Field id="who" label="Your name" error={errors.name}
          ><input id="who" class="line-in" autocomplete="name" bind:value={name} /></Field
        >
        <Field id="says" label="Anything to say"
          ><input id="says" class="line-in" bind:value={says} /></Field
        >
        <ProblemBox problem={acts.problem} />
        <div class="mt-2 flex gap-3">
          <button class="btn btn-primary btn-sm" disabled={!given.length}>I have consented</button>
          <button type="button" class="btn btn-sm" onclick={(event) => answer(event, true)}
            >I refuse</button
          >
        </div>
        <p class="help mt-2">
          <When at={asked.ends} prefix="The link expires " /> and serves once.
        </p>
      </form>
    {/if}
  {/if}
</main>
