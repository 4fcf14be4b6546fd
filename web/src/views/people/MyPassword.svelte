<script lang="ts">
  import { api, ok, Problem } from '../../api/client'
  import CodeField from '../../lib/CodeField.svelte'
  import Field from '../../lib/Field.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { session, take } from '../../lib/session.svelte'

  let form = $state({ old: '', new: '', code: '' })
  let problem = $state<unknown>(null)
  let changed = $state(false)
  const errors = $derived(problem instanceof Problem ? problem.errors : {})

  async function change(event: Event): Promise<void> {
    event.preventDefault()
    problem = null
    changed = false
    try {
      take(await ok(api.POST('/api/session/passwords', { body: form })))
      form = { old: '', new: '', code: '' }
      changed = true
    } catch (error) {
      problem = error
      form.code = ''
    }
  }
</script>

<section class="sheet p-4" aria-labelledby="password">
  <h2 id="password" class="mb-1">Password</h2>
  <form onsubmit={change} class="max-w-sm">
    <input type="text" autocomplete="username" value={session.who?.username} readonly hidden />
    <Field id="old-password" label="The one you have" error={errors.password}
      ><input
        id="old-password"
        type="password"
        class="line-in"
        autocomplete="current-password"
        bind:value={form.old}
        required
      /></Field
    >
    <Field id="new-password" label="The new one" error={errors.new_password} help="At least twelve characters."
      ><input
        id="new-password"
        type="password"
        class="line-in"
        autocomplete="new-password"
        bind:value={form.new}
        required
      /></Field
    >
    {#if session.who?.second_factor}<CodeField id="password-code" error={errors.code} bind:value={form.code} />{/if}
    <button class="btn btn-primary btn-sm">Change it</button>
    {#if changed}<span role="status" class="text-success ms-3 font-semibold">It is changed. All other sessions have ended.</span
      >{/if}
  </form>
  {#if !errors.code && !errors.password && !errors.new_password}<ProblemBox {problem} />{/if}
</section>
