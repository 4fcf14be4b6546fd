<script lang="ts">
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import SubNav from '../../lib/SubNav.svelte'
  import When from '../../lib/When.svelte'
  import { kindName } from '../../lib/words'
  import Drawer from './Drawer.svelte'
  import LeakedTokens from './LeakedTokens.svelte'

  const acts = acting('credential')
  let text = $state('')
  let found = $state<Schemas['LeakOut'] | null>(null)
  let revoking = $state('')
  const nothing = $derived(found && Object.values(found).every((text) => text.length === 0))

  const again = async () => {
    found = await ok(api.POST('/api/leaks', { body: { text } }))
  }
  const look = (event: Event) => {
    event.preventDefault()
    return acts.run(again)
  }
  const revoke = (identity: string) =>
    acts.run(async () => {
      await ok(
        api.POST('/api/credentials/{identity}/revocations', {
          params: { path: { identity } },
          body: { why: 'it leaked' },
        }),
      )
      revoking = ''
      await again()
    })
</script>

<svelte:head><title>Leaked credential · Neat Latch</title></svelte:head>
<SubNav group="credentials" />
<header class="mb-3 flex flex-wrap items-baseline gap-x-4">
  <h1>Leaked credential</h1>
  <span class="help">what is pasted is looked up and not kept</span>
</header>
<form class="sheet mb-4 p-4" onsubmit={look}>
  <label class="label-text" for="leaked">Paste it, alone or with the text around it</label>
  <textarea
    id="leaked"
    class="line-in value h-24"
    bind:value={text}
    autocomplete="off"
    spellcheck="false"
    required
    maxlength="20000"></textarea>
  <div class="mt-2 flex gap-2">
    <button class="btn btn-primary btn-sm" disabled={acts.busy || !text.trim()}>Look it up</button>
    {#if found}<button
        type="button"
        class="btn btn-sm"
        onclick={() => ((text = ''), (found = null))}>Clear</button
      >{/if}
  </div>
</form>
<ProblemBox problem={acts.problem} />
<div aria-live="polite">
  {#if nothing}
    <p class="sheet max-w-2xl p-4">
      Nothing that is kept here is in it. It may still be a credential of an application that Neat
      Latch does not know: ask its issuer. A value that was cut or changed cannot be recognised.
    </p>
  {/if}
  {#each found?.ours_by_form ?? [] as text (text)}<p
      class="bg-wait-ground mb-3 rounded-md px-3 py-2"
    >
      {text}.
    </p>{/each}
  {#if found}<LeakedTokens {found} {again} />{/if}
  {#each found?.credentials ?? [] as credential (credential.id)}
    {@const dead = credential.over || !credential.lives}
    <section class="sheet mb-4 p-4" aria-label="Recognised: {credential.hint}">
      <header class="mb-2 flex flex-wrap items-baseline gap-x-4">
        <h2>
          {kindName(credential.kind, credential.house)}
          <a class="act value" href="/credentials/{credential.id}">{credential.hint}</a>
        </h2>
        <span
          >{[credential.client, credential.application, credential.environment]
            .filter(Boolean)
            .join(', ')}</span
        >
        <span class={dead ? 'text-success font-semibold' : 'text-error font-semibold'}
          >{dead ? 'no longer gives access' : 'gives access to anyone who has it'}</span
        >
      </header>
      <div class="grid grid-cols-2 gap-6">
        <div>
          <h3 class="mb-1 font-bold">
            {dead ? 'Whom it stopped' : 'What stops when it is revoked'}
          </h3>
          {#each credential.stops as each (each.ref)}
            <p>
              <a class="act value" href="/connections/{each.ref}">{each.ref}</a>
              {#if each.at}stops <When at={each.at} />,{/if}
              {each.says}.
            </p>
            <p class="help mb-1">
              {each.workloads.length
                ? `Hit: ${each.workloads.join(', ')}`
                : 'No workload of it is known.'}
            </p>
          {:else}{#if !credential.drawer}<p>
                No connection uses it. Anything else that does stops immediately.
              </p>{/if}{/each}
          {#if credential.drawer}<Drawer drawer={credential.drawer} {dead} />{/if}
          <p class="help mt-2">
            <When at={credential.last_used} prefix="last used " />{credential.last_used
              ? ''
              : 'No use of it was ever seen.'}
          </p>
        </div>
        <div>
          <h3 class="mb-1 font-bold">The quickest replacement</h3>
          <ol class="list-decimal ps-5">
            {#each credential.acts as each (each)}<li>{each}</li>{/each}
          </ol>
          {#if !dead && !credential.house && credential.connections.length}
            <a class="btn btn-sm mt-3" href="/credentials/{credential.id}?act=replace"
              >Replace credential first</a
            >
          {/if}
          {#if !dead && credential.house}
            <div class="mt-3 flex flex-wrap gap-2">
              <button
                class="btn btn-error btn-sm"
                onclick={() => (revoking = revoking === credential.id ? '' : credential.id)}
                >Revoke now</button
              >
              <a class="btn btn-sm" href="/credentials/{credential.id}?act=replace"
                >Replace credential first</a
              >
            </div>
            {#if revoking === credential.id}
              <p class="bg-bad-ground mt-2 rounded-md px-3 py-2">
                {credential.stops.length
                  ? `${credential.stops.map((each) => each.ref).join(', ')} would stop immediately.`
                  : `${credential.drawer?.name ?? 'Anything that uses it'} stops immediately.`}
                It cannot be undone.
                <button
                  class="btn btn-error btn-sm mt-1"
                  disabled={acts.busy}
                  onclick={() => revoke(credential.id)}>Revoke {credential.hint}</button
                >
              </p>
            {/if}
          {:else if !dead && credential.client_key}<p class="mt-2">
              <a class="act" href="/clients/{credential.client_key}">To the client, and its acts</a>
            </p>{/if}
        </div>
      </div>
    </section>
  {/each}
</div>
