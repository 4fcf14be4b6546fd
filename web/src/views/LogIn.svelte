<script lang="ts">
  import { Problem } from '../api/client'
  import ProblemBox from '../lib/ProblemBox.svelte'
  import { logIn } from '../lib/session.svelte'

  let username = $state('')
  let password = $state('')
  let code = $state('')
  let wantsCode = $state(false)
  let problem = $state<unknown>(null)
  let busy = $state(false)
  const returned = new URLSearchParams(location.search).get('returned')

  async function submit(event: Event): Promise<void> {
    event.preventDefault()
    busy = true
    problem = null
    try {
      await logIn(username, password, code)
    } catch (error) {
      // Asked for the first time it is no mistake: the field appears.
      problem = error instanceof Problem && error.errors.code && !wantsCode ? null : error
      if (error instanceof Problem && error.errors.code) wantsCode = true
      code = ''
      if (error instanceof Problem && error.status === 401) password = ''
    }
    busy = false
  }
</script>

<main class="mx-auto mt-[14vh] w-[22rem]">
  <h1 class="mb-4">Neat Latch</h1>
  {#if returned === 'logged-out'}
    <p class="bg-wait-ground mb-3 rounded-md px-3 py-2">
      You came back from an application, but your session here had ended. Log in and begin the sign-in again.
    </p>
  {/if}
  <form class="sheet p-5" onsubmit={submit}>
    <label class="label-text" for="username">Login name</label>
    <input id="username" class="line-in mb-3" autocomplete="username" required bind:value={username} />
    <label class="label-text" for="password">Password</label>
    <input id="password" class="line-in mb-3" type="password" autocomplete="current-password" required bind:value={password} />
    {#if wantsCode}
      <label class="label-text" for="code">Code of your second factor</label>
      <input id="code" class="line-in value mb-3" autocomplete="one-time-code" inputmode="numeric" required bind:value={code} />
    {/if}
    <ProblemBox {problem} />
    <button class="btn btn-primary mt-3 w-full" disabled={busy}>Log in</button>
  </form>
</main>
