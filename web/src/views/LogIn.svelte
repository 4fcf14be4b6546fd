<script lang="ts">
  import { Problem, type Schemas } from '../api/client'
  import CodeField from '../lib/CodeField.svelte'
  import PasswordField from '../lib/PasswordField.svelte'
  import ProblemBox from '../lib/ProblemBox.svelte'
  import { logIn, session } from '../lib/session.svelte'

  let username = $state('')
  let password = $state('')
  let code = $state('')
  let wantsCode = $state(false)
  let asked = $state<{ options?: Schemas['AskBrowser']['options']; device: boolean }>({
    device: true,
  })
  let wantsNew = $state(false)
  let fresh = $state('')
  let problem = $state<unknown>(null)
  let busy = $state(false)
  const errors = $derived(problem instanceof Problem ? problem.errors : {})
  const returned = new URLSearchParams(location.search).get('returned')

  async function submit(event: Event): Promise<void> {
    event.preventDefault()
    busy = true
    problem = null
    try {
      await logIn(username, password, code, fresh)
    } catch (error) {
      problem = error
      if (error instanceof Problem) {
        // Asked for the first time it is no mistake: the field appears.
        if ((error.errors.code && !wantsCode) || (error.errors.new_password && !wantsNew))
          problem = null
        if (error.errors.code) {
          wantsCode = true
          const { passkey, device } = error.extra as {
            passkey?: Schemas['AskBrowser']['options']
            device?: boolean
          }
          if (passkey || device !== undefined)
            asked = { options: passkey ?? undefined, device: device ?? true }
        }
        if (error.errors.new_password) wantsNew = true
        if (error.status === 401) password = ''
      }
      code = ''
    }
    busy = false
  }
</script>

<svelte:head><title>Log in · Neat Latch</title></svelte:head>
<main class="mx-auto mt-[10vh] w-full max-w-[24rem] px-4">
  <h1 class="mb-4">Log in</h1>
  {#if session.setUpFirst}
    <p class="bg-wait-ground mb-3 rounded-md px-3 py-2">
      Nobody can log in yet. Make the first administrator at the set-up address that <code
        >nlatch serve</code
      > printed.
    </p>
  {/if}
  {#if returned === 'logged-out'}
    <p class="bg-wait-ground mb-3 rounded-md px-3 py-2">
      You came back from an application, but your session here had ended. Log in and begin the
      sign-in again.
    </p>
  {/if}
  <form class="sheet p-5" onsubmit={submit}>
    <label class="label-text" for="username">Login name</label>
    <input
      id="username"
      class="line-in mb-3"
      autocomplete="username"
      required
      bind:value={username}
    />
    <label class="label-text" for="password">Password</label>
    <input
      id="password"
      class="line-in mb-3"
      type="password"
      autocomplete="current-password"
      required
      bind:value={password}
    />
    {#if wantsNew}
      <p class="bg-wait-ground mb-3 rounded-md px-3 py-2">
        This password was given to you. Choose one of your own.
      </p>
      <PasswordField
        id="new-password"
        label="New password"
        error={errors.new_password}
        help="At least twelve characters."
        bind:value={fresh}
      />
    {/if}
    {#if wantsCode}
      <CodeField
        id="code"
        error={errors.code}
        bind:value={code}
        options={asked.options}
        device={asked.device}
      />
    {/if}
    {#if !errors.code && !errors.new_password}<ProblemBox {problem} />{/if}
    <button class="btn btn-primary mt-3 w-full" disabled={busy}>Log in</button>
  </form>
</main>
