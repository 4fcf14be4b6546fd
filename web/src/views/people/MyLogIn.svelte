<script lang="ts">
  import { api, ok, Problem, type Schemas } from '../../api/client'
  import CopyLine from '../../lib/CopyLine.svelte'
  import Field from '../../lib/Field.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { confirmFactor, dropFactor, session } from '../../lib/session.svelte'

  let begun = $state<Schemas['FactorOut'] | null>(null)
  let code = $state('')
  let problem = $state<unknown>(null)
  const errors = $derived(problem instanceof Problem ? problem.errors : {})

  async function run(call: () => Promise<unknown>): Promise<void> {
    problem = null
    try {
      await call()
      code = ''
    } catch (error) {
      problem = error
    }
  }
  const begin = () => run(async () => (begun = await ok(api.POST('/api/session/second-factors'))))
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
      <Field id="factor-code" label="Code" error={errors.code}
        ><input
          id="factor-code"
          class="line-in value"
          inputmode="numeric"
          autocomplete="one-time-code"
          bind:value={code}
          required
        /></Field
      >
      <button class="btn btn-primary btn-sm">It is set up</button>
      <button type="button" class="btn btn-sm" onclick={() => ((begun = null), (code = ''), (problem = null))}>Leave it</button>
    </form>
  {:else if session.who?.second_factor}
    <p class="mb-3">It is set up. You are asked for it when you log in, and when you have a stored secret shown again.</p>
    <form onsubmit={drop} class="max-w-xs">
      <Field id="drop-code" label="To do without it, give a code of it" error={errors.code}
        ><input
          id="drop-code"
          class="line-in value"
          inputmode="numeric"
          autocomplete="one-time-code"
          bind:value={code}
          required
        /></Field
      >
      <button class="btn btn-error btn-sm" disabled={!code.trim()}>Do without it</button>
    </form>
    <button class="act mt-3" onclick={begin}>Set up another device in its place</button>
  {:else}
    <p class="mb-3">
      None. With one, your password alone lets nobody in. It is wanted to see a stored secret again. Any program for one-time
      codes will do (RFC 6238).
    </p>
    <button class="btn btn-primary btn-sm" onclick={begin}>Set it up</button>
  {/if}
  {#if !errors.code}<ProblemBox {problem} />{/if}
</section>
