<script lang="ts">
  import { goto } from '../router'
  import { Problem } from '../api/client'
  import Field from '../lib/Field.svelte'
  import PasswordField from '../lib/PasswordField.svelte'
  import ProblemBox from '../lib/ProblemBox.svelte'
  import { makeFirst } from '../lib/session.svelte'

  /** What stands behind the `#` of the set-up address: browsers send it to nobody. */
  const token = location.hash.slice(1)
  let name = $state('')
  let username = $state('')
  let password = $state('')
  let problem = $state<unknown>(null)
  let busy = $state(false)
  const errors = $derived(problem instanceof Problem ? problem.errors : {})

  async function submit(event: Event): Promise<void> {
    event.preventDefault()
    busy = true
    problem = null
    try {
      await makeFirst({ token, name, username, password })
      goto('/')
    } catch (error) {
      problem = error
    }
    busy = false
  }
</script>

<svelte:head><title>First administrator · Neat Latch</title></svelte:head>
<main class="mx-auto mt-[8vh] w-full max-w-md px-4">
  <h1 class="mb-4">First administrator</h1>
  {#if token}
    <form class="sheet p-5" onsubmit={submit}>
      <p class="mb-4">
        Nobody can log in to this Neat Latch yet. Administrators register clients, set scopes and
        hold secrets, and add everybody else.
      </p>
      <Field id="name" label="Your name" error={errors.name}
        ><input id="name" class="line-in" autocomplete="name" required bind:value={name} /></Field
      >
      <Field id="username" label="Login name" error={errors.username}
        ><input
          id="username"
          class="line-in"
          autocomplete="username"
          required
          bind:value={username}
        /></Field
      >
      <PasswordField
        id="password"
        label="Password"
        help="At least twelve characters."
        error={errors.password}
        bind:value={password}
      />
      {#if !Object.keys(errors).length}<ProblemBox {problem} />{/if}
      <button class="btn btn-primary mt-3 w-full" disabled={busy}>Create administrator</button>
    </form>
  {:else}
    <p class="sheet p-5">
      This is not the whole address. Open the one that <code>nlatch serve</code> printed, with all
      that follows the <code>#</code>.
    </p>
  {/if}
</main>
