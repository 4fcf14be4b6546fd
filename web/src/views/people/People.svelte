<script lang="ts">
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import { searchParams } from 'sv-router'
  import ListPage from '../../lib/ListPage.svelte'
  import { paged } from '../../lib/paged.svelte'
  import PasswordField from '../../lib/PasswordField.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import Teams from '../accounts/Teams.svelte'
  import { may, session } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'

  const ROLES: [string, string][] = [
    ['reader', 'looks'],
    ['operator', 'tests and signs in'],
    ['administrator', 'registers, changes, hands over'],
    ['auditor', 'reads the journal'],
  ]
  const acts = acting('person')
  let words = $state(String(searchParams.get('words') ?? ''))
  const found = paged(
    () => ['people', words],
    (cursor) => ok(api.GET('/api/people', { params: { query: { words, cursor } } })),
  )
  let form = $state({ username: '', name: '', role: 'reader', password: '' })
  const errors = $derived(acts.errors)

  const run = acts.run
  const add = (event: Event) => {
    event.preventDefault()
    void run(async () => {
      await ok(api.POST('/api/people', { body: form }))
      form = { username: '', name: '', role: 'reader', password: '' }
    })
  }
  const mayDropFactor = (username: string) => may('change') && username !== session.who?.username
  const dropFactor = (username: string) =>
    run(() =>
      ok(api.DELETE('/api/people/{username}/second-factors', { params: { path: { username } } })),
    )
  let giving = $state('')
  let given = $state('')
  const givePassword = (event: Event) => {
    event.preventDefault()
    void run(async () => {
      const params = { path: { username: giving } }
      await ok(api.POST('/api/people/{username}/passwords', { params, body: { password: given } }))
      giving = ''
      given = ''
    })
  }
  const logOut = (username: string) =>
    run(() => ok(api.POST('/api/people/{username}/log-outs', { params: { path: { username } } })))
  const change = (username: string, body: { role?: string; active?: boolean }) =>
    run(() => ok(api.PATCH('/api/people/{username}', { params: { path: { username } }, body })))
</script>

<ListPage
  title="People and teams"
  list="people"
  bind:words
  placeholder="words, or role:operator access:off"
  query={found.query}
  rows={found.rows}
  key={(row) => row.username}
>
  {#snippet actions()}<a class="act" href="/owners">Owners</a>{/snippet}
  {#snippet body(rows)}
    <div class="sheet overflow-x-auto">
      <table class="rows">
        <thead
          ><tr
            ><th>Name</th><th>Login name</th><th>Role</th><th>Last log-in</th><th>Second factor</th
            ><th>Access</th>{#if may('change')}<th>Log-in</th>{/if}</tr
          ></thead
        >
        <tbody>
          {#each rows as row (row.username)}
            <tr data-row>
              <td><a class="act" href="/people/{row.username}">{row.name}</a></td><td class="value"
                >{row.username}</td
              >
              <td>
                {#if may('change')}
                  <select
                    class="line-in"
                    aria-label="Role of {row.name}"
                    value={row.role}
                    onchange={(e) => void change(row.username, { role: e.currentTarget.value })}
                    >{#each ROLES as [role] (role)}<option>{role}</option>{/each}</select
                  >
                {:else}{row.role}{/if}
              </td>
              <td><When at={row.last_login} />{row.last_login ? '' : 'never'}</td>
              <td
                >{row.second_factor ? 'set up' : 'none'}
                {#if row.second_factor && mayDropFactor(row.username)}<button
                    class="act"
                    onclick={() => void dropFactor(row.username)}
                    aria-label="Remove the second factor of {row.name}">Remove</button
                  >{/if}</td
              >
              <td
                >{row.active ? 'on' : 'off'}{#if may('change')}&nbsp;<button
                    class="act"
                    onclick={() => void change(row.username, { active: !row.active })}
                    aria-label="Switch {row.name} {row.active ? 'off' : 'on'}"
                    >{row.active ? 'Switch off' : 'Switch on'}</button
                  >{/if}</td
              >
              {#if may('change')}<td class="whitespace-nowrap"
                  >{#if row.must_change}<span class="text-soft">must change it</span
                    >&nbsp;{/if}{#if row.username !== session.who?.username}<button
                      class="act"
                      onclick={() => (
                        (giving = giving === row.username ? '' : row.username),
                        (given = '')
                      )}
                      aria-label="Give {row.name} a new password">New password</button
                    >&nbsp;<button
                      class="act"
                      onclick={() => void logOut(row.username)}
                      aria-label="Log {row.name} out everywhere">Log out</button
                    >{/if}</td
                >{/if}
            </tr>
            {#if giving === row.username}
              <tr
                ><td colspan="7"
                  ><form
                    class="bg-quiet-ground max-w-md rounded-md px-4 py-3"
                    onsubmit={givePassword}
                  >
                    <PasswordField
                      id="given-password"
                      label="Password for {row.name}"
                      error={errors.password}
                      help="They must change it when they log in. Their sessions end."
                      bind:value={given}
                    /><button class="btn btn-primary btn-sm">Set password</button>
                  </form></td
                ></tr
              >
            {/if}
          {/each}
        </tbody>
      </table>
    </div>
  {/snippet}
  {#snippet below()}
    <Teams />
  {/snippet}
  {#snippet empty()}<p>Nobody is here.</p>{/snippet}
  {#snippet beside()}
    <aside class="sheet p-4">
      {#if may('change')}
        <form onsubmit={add}>
          <h2 class="mb-2">Add a person</h2>
          <Field id="p-name" label="Name"
            ><input id="p-name" class="line-in" bind:value={form.name} /></Field
          >
          <Field id="p-username" label="Login name" error={errors.username}
            ><input
              id="p-username"
              class="line-in"
              autocomplete="off"
              bind:value={form.username}
            /></Field
          >
          <Field id="p-role" label="Role" error={errors.role}
            ><select id="p-role" class="line-in" bind:value={form.role}
              >{#each ROLES as [role, what] (role)}<option value={role}>{role}: {what}</option
                >{/each}</select
            ></Field
          >
          <PasswordField
            id="p-password"
            label="First password"
            error={giving ? '' : errors.password}
            help="They choose another when they first log in."
            bind:value={form.password}
            required={false}
          />
          {#if !errors.password && !errors.username && !errors.role}<ProblemBox
              problem={acts.problem}
            />{/if}
          <button class="btn btn-primary btn-sm mt-2">Add person</button>
        </form>
      {:else}
        <h2 class="mb-1">Roles</h2>
        {#each ROLES as [role, what] (role)}<p><strong>{role}</strong> {what}</p>{/each}
        <ProblemBox problem={acts.problem} />
      {/if}
    </aside>
  {/snippet}
</ListPage>
