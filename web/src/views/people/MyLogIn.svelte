<script lang="ts">
  import { api, ok, Problem, type Schemas } from '../../api/client'
  import CopyLine from '../../lib/CopyLine.svelte'
  import CodeField from '../../lib/CodeField.svelte'
  import Field from '../../lib/Field.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { confirmFactor, dropFactor, endOtherSessions, session } from '../../lib/session.svelte'

  let begun = $state<Schemas['FactorOut'] | null>(null)
  let code = $state('')
  let password = $state('')
  /** Another device is to take the place of the one that is there. */
  let replacing = $state(false)
  let ended = $state(false)
  let problem = $state<unknown>(null)
  const errors = $derived(problem instanceof Problem ? problem.errors : {})

  async function run(call: () => Promise<unknown>): Promise<void> {
    problem = null
    try {
      await call()
      code = ''
      password = ''
    } catch (error) {
      problem = error
    }
  }
  const begin = (event: Event) => {
    event.preventDefault()
    void run(async () => {
      begun = await ok(api.POST('/api/session/second-factors', { body: { password, code } }))
      replacing = false
    })
  }
  const endOthers = () =>
    run(async () => {
      await endOtherSessions()
      ended = true
    })
  const confirm = (event: Event) => {
    event.preventDefault()
    void run(async () => {
      await confirmFactor(code)
      begun = null
    })
  }
  const drop = (event: Event) => {
    event.preventDefault()
    void run(() => dropFactor(code))
  }
</script>

<svelte:head><title>My log-in · Neat Latch</title></svelte:head>
<h1 class="mb-3">My log-in</h1>
<section class="sheet max-w-2xl p-4" aria-labelledby="factor">
  <h2 id="factor" class="mb-1">Second factor</h2>
  {#if begun}
    <ol class="mb-3 list-decimal space-y-2 ps-5">
      <li>
        Give your device this secret. It is shown this once.<br />
        <CopyLine text={begun.secret} what="the secret of the second factor" />
        <p class="help mt-1">Or as an address: <span class="value">{begun.address}</span></p>
      </li>
      <li>Type the six digits that it shows now.</li>
    </ol>
    <form onsubmit={confirm} class="max-w-xs">
      <CodeField id="factor-code" label="Code" error={errors.code} bind:value={code} />
      <button class="btn btn-primary btn-sm">It is set up</button>
      <button type="button" class="btn btn-sm" onclick={() => ((begun = null), (code = ''), (problem = null))}>Leave it</button>
    </form>
  {:else if session.who?.second_factor}
    <p class="mb-3">It is set up. You are asked for it when you log in, and when you have a stored secret shown again.</p>
    <form onsubmit={replacing ? begin : drop} class="max-w-xs">
      <CodeField
        id="drop-code"
        label={replacing ? 'To set up another device, give a code of this one' : 'To do without it, give a code of it'}
        error={errors.code}
        bind:value={code}
      />
      <button class="btn {replacing ? 'btn-primary' : 'btn-error'} btn-sm" disabled={!code.trim()}
        >{replacing ? 'Set up another device' : 'Do without it'}</button
      >
    </form>
    <button class="act mt-3" onclick={() => ((replacing = !replacing), (problem = null))}
      >{replacing ? 'Leave it as it is' : 'Set up another device in its place'}</button
    >
  {:else}
    <p class="mb-3">
      None. With one, your password alone lets nobody in. It is wanted to see a stored secret again. Any program for one-time
      codes will do (RFC 6238).
    </p>
    <form onsubmit={begin} class="max-w-xs">
      <Field id="factor-password" label="Your password" error={errors.password}
        ><input
          id="factor-password"
          type="password"
          class="line-in"
          autocomplete="current-password"
          bind:value={password}
          required
        /></Field
      >
      <button class="btn btn-primary btn-sm">Set it up</button>
    </form>
  {/if}
  {#if !errors.code && !errors.password}<ProblemBox {problem} />{/if}
</section>
<section class="sheet mt-4 max-w-2xl p-4" aria-labelledby="sessions">
  <h2 id="sessions" class="mb-1">Where you are logged in</h2>
  <p class="mb-3">
    A session ends after twelve hours, and when your password, your role or your second factor becomes another. If you logged in
    on a machine that is not yours, end it now.
  </p>
  <button class="btn btn-sm" onclick={endOthers}>End all other sessions</button>
  {#if ended}<span role="status" class="text-success ms-3 font-semibold">All other sessions have ended.</span>{/if}
</section>
