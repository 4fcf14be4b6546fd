<script lang="ts">
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import CodeField from '../../lib/CodeField.svelte'
  import PasswordField from '../../lib/PasswordField.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { session, take } from '../../lib/session.svelte'

  let form = $state({ password: '', new_password: '', code: '' })
  const acts = acting('me')
  let changed = $state(false)
  let open = $state(false)
  const errors = $derived(acts.errors)

  async function change(event: Event): Promise<void> {
    event.preventDefault()
    changed = false
    const found = await acts.run(() => ok(api.POST('/api/session/passwords', { body: form })))
    if (!found) {
      form.code = ''
      return
    }
    take(found)
    form = { password: '', new_password: '', code: '' }
    changed = true
    open = false
  }
</script>

<section class="sheet p-4" aria-labelledby="password">
  <h2 id="password" class="mb-1">Password</h2>
  {#if open}
    <form onsubmit={change} class="max-w-sm">
      <input type="text" autocomplete="username" value={session.who?.username} readonly hidden />
      <PasswordField
        id="old-password"
        label="The one you have"
        error={errors.password}
        bind:value={form.password}
        current
      />
      <PasswordField
        id="new-password"
        label="The new one"
        error={errors.new_password}
        help="At least twelve characters."
        bind:value={form.new_password}
      />
      {#if session.who?.second_factor}<CodeField
          id="password-code"
          error={errors.code}
          bind:value={form.code}
        />{/if}
      <button class="btn btn-primary btn-sm">Change password</button>
      <button
        type="button"
        class="btn btn-sm"
        onclick={() => ((open = false), (acts.problem = null))}>Cancel</button
      >
    </form>
  {:else}
    <p>
      You need it, with your second factor, at each log-in.
      <button class="act ms-2" onclick={() => ((open = true), (changed = false))}
        >Change password</button
      >
    </p>
  {/if}
  {#if changed}<p role="status" class="text-success font-semibold">
      It is changed. All other sessions have ended.
    </p>{/if}
  {#if !errors.code && !errors.password && !errors.new_password}<ProblemBox
      problem={acts.problem}
    />{/if}
</section>
