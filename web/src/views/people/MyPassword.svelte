<script lang="ts">
  import { api, ok, Problem } from '../../api/client'
  import CodeField from '../../lib/CodeField.svelte'
  import PasswordField from '../../lib/PasswordField.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { session, take } from '../../lib/session.svelte'

  let form = $state({ password: '', new_password: '', code: '' })
  let problem = $state<unknown>(null)
  let changed = $state(false)
  let open = $state(false)
  const errors = $derived(problem instanceof Problem ? problem.errors : {})

  async function change(event: Event): Promise<void> {
    event.preventDefault()
    problem = null
    changed = false
    try {
      take(await ok(api.POST('/api/session/passwords', { body: form })))
      form = { password: '', new_password: '', code: '' }
      changed = true
      open = false
    } catch (error) {
      problem = error
      form.code = ''
    }
  }
</script>

<section class="sheet p-4" aria-labelledby="password">
  <h2 id="password" class="mb-1">Password</h2>
  {#if open}
    <form onsubmit={change} class="max-w-sm">
      <input type="text" autocomplete="username" value={session.who?.username} readonly hidden />
      <PasswordField id="old-password" label="The one you have" error={errors.password} bind:value={form.password} current />
      <PasswordField
        id="new-password"
        label="The new one"
        error={errors.new_password}
        help="At least twelve characters."
        bind:value={form.new_password}
      />
      {#if session.who?.second_factor}<CodeField id="password-code" error={errors.code} bind:value={form.code} />{/if}
      <button class="btn btn-primary btn-sm">Change it</button>
      <button type="button" class="btn btn-sm" onclick={() => ((open = false), (problem = null))}>Leave it</button>
    </form>
  {:else}
    <p>
      It is wanted, with your second factor, at each log-in.
      <button class="act ms-2" onclick={() => ((open = true), (changed = false))}>Change it</button>
    </p>
  {/if}
  {#if changed}<p role="status" class="text-success font-semibold">It is changed. All other sessions have ended.</p>{/if}
  {#if !errors.code && !errors.password && !errors.new_password}<ProblemBox {problem} />{/if}
</section>
