<script lang="ts">
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ApplicationField from '../../lib/ApplicationField.svelte'
  import Copy from '../../lib/Copy.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import When from '../../lib/When.svelte'

  let { authority }: { authority: Schemas['AuthorityOut'] } = $props()
  const acts = acting('house')
  let form = $state({ application: '', uses: 1, days: 7 })
  let scopes = $state('')
  let token = $state('')

  const make = (event: Event) => {
    event.preventDefault()
    void acts.run(async () => {
      const made = await ok(
        api.POST('/api/house/{environment}/registration-rights', {
          params: { path: { environment: authority.environment.key } },
          body: { ...form, scopes: scopes.trim() ? scopes.trim().split(/\s+/) : null },
        }),
      )
      token = made.token
    })
  }
  const end = (identity: string) =>
    acts.run(() =>
      ok(
        api.DELETE('/api/house/registration-rights/{identity}', { params: { path: { identity } } }),
      ),
    )
</script>

<!-- Shown once: it goes when the window loses the focus, like any secret. -->
<svelte:window onblur={() => (token = '')} />
<section class="sheet p-4" aria-labelledby="rights">
  <h2 id="rights" class="mb-1">
    Registration by protocol <span class="help font-normal">RFC 7591, RFC 7592</span>
  </h2>
  <p class="help mb-2">
    A program may register its own client with a token that you give its people.
  </p>
  {#each authority.rights as right (right.id)}
    <p>
      <span class="value">{right.hint}</span> for {right.application},
      {right.left} left{right.scopes ? `, at most ${right.scopes.join(' ') || 'no scope'}` : ''},
      <When at={right.ends} prefix="expires " /> · {right.made_by}
      <button class="act ms-2" disabled={acts.busy} onclick={() => end(right.id)}>Remove</button>
    </p>
  {/each}
  {#if token}
    <p class="border-secondary my-2 rounded-md border-2 p-3">
      Give them this now; it is not shown again.<br /><span class="value" data-secret>{token}</span>
      <Copy text={token} what="the token" />
      <button class="btn btn-sm" onclick={() => (token = '')}>I have it</button>
    </p>
  {:else if authority.accepting}
    <form class="flex flex-wrap items-end gap-3" onsubmit={make}>
      <label for="right-for"
        ><span class="label-text">For</span><ApplicationField
          id="right-for"
          house={authority.environment.key}
          none="Choose an application"
          bind:value={form.application}
        /></label
      >
      <label class="w-28"
        ><span class="label-text">Clients</span><input
          type="number"
          class="line-in"
          min="1"
          max="1000"
          bind:value={form.uses}
        /></label
      >
      <label class="w-28"
        ><span class="label-text">Days</span><input
          type="number"
          class="line-in"
          min="1"
          max="90"
          bind:value={form.days}
        /></label
      >
      <label class="w-64"
        ><span class="label-text">Scopes at most</span><input
          class="line-in value"
          placeholder="any of the application's"
          autocomplete="off"
          bind:value={scopes}
        /></label
      >
      <button class="btn btn-sm" disabled={acts.busy || !form.application}>Create token</button>
    </form>
  {/if}
  <ProblemBox problem={acts.problem} />
</section>
