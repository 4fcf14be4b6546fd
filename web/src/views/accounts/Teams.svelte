<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'

  let { people }: { people: Schemas['PersonOut'][] } = $props()
  const list = createQuery(() => ({ queryKey: ['teams'], queryFn: () => ok(api.GET('/api/teams')) }))
  const acts = acting('person', 'owner')
  let form = $state<{ id: number; name: string; people: string[] } | null>(null)

  const save = (event: Event) => {
    event.preventDefault()
    const { id, ...body } = form!
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
  const remove = (identity: number) => acts.run(() => ok(api.DELETE('/api/teams/{identity}', { params: { path: { identity } } })))
  const nameOf = (username: string) => people.find((one) => one.username === username)?.name ?? username
</script>

<section class="sheet mt-4" aria-labelledby="teams" id="teams-section">
  <header class="border-base-300 flex items-baseline border-b px-4 py-2">
    <h2 id="teams">Teams</h2>
    {#if may('change') && !form}<button class="act ms-auto" onclick={() => (form = { id: 0, name: '', people: [] })}
        >Make a team</button
      >{/if}
  </header>
  {#if form}
    <form class="border-base-300 border-b p-4" onsubmit={save}>
      <label class="block max-w-sm"><span class="label-text">Name</span><input class="line-in" bind:value={form.name} /></label>
      <fieldset class="mt-2">
        <legend class="label-text">People</legend>
        {#each people as one (one.username)}<label class="me-5 inline-flex min-h-[26px] items-center gap-2"
            ><input type="checkbox" value={one.username} bind:group={form.people} /> {one.name}</label
          >{/each}
      </fieldset>
      <div class="mt-2 flex gap-3">
        <button class="btn btn-primary btn-sm">Save</button>
        <button type="button" class="btn btn-sm" onclick={() => (form = null)}>Leave it</button>
        {#if form.id}<button
            type="button"
            class="act ms-auto"
            onclick={() => {
              const id = form!.id
              form = null
              void remove(id)
            }}>Take the team away</button
          >{/if}
      </div>
    </form>
  {/if}
  <ProblemBox problem={acts.problem} />
  {#if list.data?.length}
    <table class="rows">
      <thead><tr><th>Team</th><th>People</th><th>Connections</th><th><span class="sr-only">Acts</span></th></tr></thead>
      <tbody>
        {#each list.data as one (one.id)}
          <tr
            ><td class="font-semibold">{one.name}</td><td>{one.people.map(nameOf).join(', ') || 'nobody'}</td><td
              >{#each one.connections as ref (ref)}<a class="act value me-2" href="/connections/{ref}">{ref}</a>{/each}</td
            ><td class="text-end"
              >{#if may('change')}<button
                  class="act"
                  aria-label="Change the team {one.name}"
                  onclick={() => (form = { id: one.id, name: one.name, people: [...one.people] })}>Change</button
                >{/if}</td
            ></tr
          >
        {/each}
      </tbody>
    </table>
  {:else if !form}<p class="px-4 py-3">
      None yet. A connection may belong to a team, and its people may each connect an account.
    </p>{/if}
</section>
