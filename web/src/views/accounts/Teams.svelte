<script lang="ts">
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import { paged } from '../../lib/paged.svelte'
  import PersonField from '../../lib/PersonField.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'

  const found = paged(
    () => ['teams'],
    (cursor) => ok(api.GET('/api/teams', { params: { query: { cursor } } })),
  )
  const acts = acting('person', 'owner')
  let form = $state<{ id: number; name: string; people: Schemas['MemberOut'][] } | null>(null)
  let joins = $state('')

  const save = (event: Event) => {
    event.preventDefault()
    take()
    const { id, name, people } = form!
    const body = { name, people: people.map((person) => person.username) }
    void acts
      .run(() =>
        id
          ? ok(api.PUT('/api/teams/{identity}', { params: { path: { identity: id } }, body }))
          : ok(api.POST('/api/teams', { body })),
      )
      .then(() => {
        if (!acts.problem) form = null
      })
  }
  const remove = (identity: number) =>
    acts.run(() => ok(api.DELETE('/api/teams/{identity}', { params: { path: { identity } } })))
  function take(): void {
    const username = joins.trim()
    if (username && !form!.people.some((person) => person.username === username))
      form!.people.push({ username, name: username })
    joins = ''
  }
</script>

<section class="sheet mt-4" aria-labelledby="teams" id="teams-section">
  <header class="border-base-300 flex items-baseline border-b px-4 py-2">
    <h2 id="teams">Teams</h2>
    {#if may('change') && !form}<button
        class="act ms-auto"
        onclick={() => (form = { id: 0, name: '', people: [] })}>Add team</button
      >{/if}
  </header>
  {#if form}
    <form class="border-base-300 border-b p-4" onsubmit={save}>
      <label class="block max-w-sm"
        ><span class="label-text">Name</span><input class="line-in" bind:value={form.name} /></label
      >
      <fieldset class="mt-2">
        <legend class="label-text">People</legend>
        {#each form.people as person (person.username)}<span
            class="bg-quiet-ground me-2 mb-1 inline-flex items-center rounded-md ps-2"
            >{person.name}<button
              type="button"
              class="text-soft min-h-[26px] min-w-[26px]"
              aria-label="{person.name} leaves the team"
              onclick={() =>
                (form!.people = form!.people.filter((each) => each.username !== person.username))}
              >×</button
            ></span
          >{:else}<span class="text-soft">nobody</span>{/each}
        <div class="mt-1 flex max-w-sm gap-2">
          <PersonField id="joins" label="Login name of who joins" bind:value={joins} />
          <button type="button" class="btn btn-sm" disabled={!joins.trim()} onclick={take}
            >Join</button
          >
        </div>
      </fieldset>
      <div class="mt-2 flex gap-3">
        <button class="btn btn-primary btn-sm">Save</button>
        <button type="button" class="btn btn-sm" onclick={() => (form = null)}>Cancel</button>
        {#if form.id}<button
            type="button"
            class="act ms-auto"
            onclick={() => {
              const id = form!.id
              form = null
              void remove(id)
            }}>Remove team</button
          >{/if}
      </div>
    </form>
  {/if}
  <ProblemBox problem={acts.problem} />
  {#if found.rows.length}
    <table class="rows">
      <thead
        ><tr
          ><th>Team</th><th>People</th><th>Connections</th><th
            ><span class="sr-only">Actions</span></th
          ></tr
        ></thead
      >
      <tbody>
        {#each found.rows as entry (entry.id)}
          <tr
            ><td class="font-semibold">{entry.name}</td><td
              >{entry.people.map((each) => each.name).join(', ') || 'nobody'}</td
            ><td
              >{#if entry.connections}<a
                  class="act"
                  href={`/connections?words=${encodeURIComponent(`team:"${entry.name}"`)}`}
                  >{entry.connections}</a
                >{:else}<span class="text-soft">none</span>{/if}</td
            ><td class="text-end"
              >{#if may('change')}<button
                  class="act"
                  aria-label="Change the team {entry.name}"
                  onclick={() =>
                    (form = { id: entry.id, name: entry.name, people: [...entry.people] })}
                  >Change</button
                >{/if}</td
            ></tr
          >
        {/each}
      </tbody>
    </table>
    {#if found.query.hasNextPage}<button
        class="btn btn-sm m-3"
        onclick={() => found.query.fetchNextPage()}>Show more</button
      >{/if}
  {:else if !form}<p class="px-4 py-3">
      None yet. A connection may belong to a team, and its people may each connect an account.
    </p>{/if}
</section>
