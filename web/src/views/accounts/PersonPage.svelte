<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Loading from '../../lib/Loading.svelte'
  import OwnerField from '../../lib/OwnerField.svelte'
  import NotesCard from '../../lib/NotesCard.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may, session } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { capital } from '../../lib/words'
  import { param } from '../../router'
  import LimitsCard from './LimitsCard.svelte'

  const username = $derived(param('username'))
  const found = createQuery(() => ({
    queryKey: ['belongings', username],
    queryFn: () =>
      ok(api.GET('/api/people/{username}/belongings', { params: { path: { username } } })),
  }))
  const acts = acting('person', 'owner', 'connection')
  let to = $state('')
  let chosen = $state<string[]>([])
  let confirming = $state('')
  const path = $derived({ path: { username } })
  type Thing = Schemas['BelongingOut']
  const movable = $derived((found.data?.things ?? []).filter((thing) => thing.act === 'hand_over'))

  /** Who is to take each thing: whom one typed, else who is offered. */
  let takers = $state<Record<string, string>>({})
  const taker = (thing: Thing) =>
    takers[thing.key] ?? (chosen.includes(thing.key) && to.trim() ? to : thing.offer)
  const each = $derived(
    Object.fromEntries(
      movable
        .filter((thing) => chosen.includes(thing.key))
        .map((thing) => [thing.key, taker(thing)]),
    ),
  )
  const ready = $derived(chosen.length > 0 && Object.values(each).every((name) => name.trim()))
  function choose(keys: string[], to: string): void {
    takers = { ...takers, ...Object.fromEntries(keys.map((key) => [key, to])) }
  }
  async function handOver(event: Event): Promise<void> {
    event.preventDefault()
    const left = await acts.run(
      () =>
        ok(
          api.POST('/api/people/{username}/ownership-transfers', {
            params: path,
            body: { to: '', keys: [], each },
          }),
        ),
      ['belongings', username],
    )
    if (!left) return
    chosen = []
    takers = {}
    to = ''
  }
  const disconnect = (thing: Thing) =>
    acts.run(() =>
      ok(
        api.DELETE('/api/connections/{ref}/accounts/{username}', {
          params: { path: { ref: thing.name, username }, query: { forget: true } },
        }),
      ),
    )
  const leave = () =>
    acts.run(() => ok(api.POST('/api/people/{username}/offboardings', { params: path })))
</script>

<svelte:head><title>{found.data?.name ?? 'Person'} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  {@const person = found.data}
  <header class="mb-3 flex flex-wrap items-center gap-x-4">
    <h1>{person.name}</h1>
    <span class="value text-soft">{person.username}</span>
    <span class="text-soft"
      >{person.role}{person.teams.length ? `, ${person.teams.join(', ')}` : ''}</span
    >
    <strong class={person.left ? 'text-error' : person.active ? 'text-success' : 'text-warning'}
      >{#if person.left}<When at={person.left} prefix="left " />{:else}{person.active
          ? 'can log in'
          : 'cannot log in'}{/if}</strong
    >
    <a class="act ms-auto" href="/people">All people</a>
  </header>
  {#if acts.problem}<div class="mb-3"><ProblemBox problem={acts.problem} /></div>{/if}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_356px] items-start gap-4">
    <section class="sheet" aria-labelledby="things">
      <h2 id="things" class="border-base-300 border-b px-4 py-2">
        {person.things.length
          ? `${person.more ? 'More than ' : ''}${person.things.length} things of theirs`
          : 'Nothing here is theirs'}
      </h2>
      {#if person.things.length}
        <table class="rows">
          <thead
            ><tr
              ><th><span class="sr-only">Choose</span></th><th>What</th><th>Why it matters</th><th
                ><span class="sr-only">Actions</span></th
              ></tr
            ></thead
          >
          <tbody>
            {#each person.things as thing (thing.key)}
              <tr data-row>
                <td
                  >{#if thing.act === 'hand_over' && may('change')}<input
                      type="checkbox"
                      aria-label="Hand over {thing.name}"
                      value={thing.key}
                      bind:group={chosen}
                    />{/if}</td
                >
                <td
                  >{capital(thing.what)}<br /><a class="act" href={thing.address}>{thing.name}</a
                  ></td
                >
                <td
                  >{thing.says}{#if thing.production}&nbsp;<span class="text-brass font-semibold"
                      >Production</span
                    >{/if}</td
                >
                <td class="text-end whitespace-nowrap"
                  >{#if thing.act === 'hand_over' && may('change')}<span class="inline-block w-48"
                      ><OwnerField
                        id="to-{thing.key.replaceAll(/[^\w]/g, '-')}"
                        label="Who takes {thing.name} over"
                        placeholder="who takes it over?"
                        bind:value={() => taker(thing), (name) => choose([thing.key], name)}
                      /></span
                    >{:else if thing.act === 'disconnect' && may('change')}<button
                      class="act"
                      aria-label="Disconnect {thing.name}"
                      onclick={() => disconnect(thing)}>Disconnect</button
                    >{:else if thing.act === 'replace'}<a
                      class="act"
                      href="{thing.address}?put=secret">Replace secret</a
                    >{:else if thing.act === 'look'}<a class="act" href={thing.address}>Open</a
                    >{/if}</td
                >
              </tr>
            {/each}
          </tbody>
        </table>
        {#if person.more}<p class="help px-4 py-3">
            The first of each kind are shown; the others follow as these are dealt with.
          </p>{/if}
      {:else}<p class="px-4 py-3">
          No job, application, account or secret names them. When somebody leaves, this page is how
          one knows that nothing stops.
        </p>{/if}
    </section>
    <div class="flex flex-col gap-4">
      {#key person.username}<LimitsCard username={person.username} limits={person.limits} />{/key}
      {#key person.username}<NotesCard of="people" id={person.username} />{/key}
      {#if may('change') && movable.length}
        <section class="sheet p-4" aria-labelledby="hand-over">
          <h2 id="hand-over" class="mb-1">Hand over</h2>
          <form onsubmit={handOver}>
            <p>
              <button
                type="button"
                class="act"
                onclick={() =>
                  (chosen =
                    chosen.length === movable.length ? [] : movable.map((thing) => thing.key))}
                >{chosen.length === movable.length
                  ? 'Choose none'
                  : `Choose all ${movable.length}`}</button
              >
              <span class="help">{chosen.length} chosen</span>
            </p>
            <label class="mt-1 block" for="to-all"
              ><span class="label-text"
                >Who takes it over? <span class="help font-normal">all that are chosen</span></span
              ></label
            >
            <OwnerField
              id="to-all"
              bind:value={() => to, (name) => ((to = name), choose(chosen, name))}
            />
            <button class="btn btn-primary btn-sm mt-2" disabled={acts.busy || !ready}
              >Hand over</button
            >
            {#if chosen.length && !ready}<p class="help mt-1">
                Say who takes each thing over.
              </p>{/if}
          </form>
        </section>
      {/if}
      {#if may('change') && !person.left && person.username !== session.who?.username}
        <section class="sheet p-4" aria-labelledby="leaving">
          <h2 id="leaving" class="mb-1">They leave the firm</h2>
          <p class="help">
            They cannot log in any more, and every account of their own is disconnected, at the
            application too where it lets us. What they own stays until it is handed over.
          </p>
          <label class="mt-2 block"
            ><span class="label-text">To go on, type {person.username}</span><input
              class="line-in"
              bind:value={confirming}
            /></label
          >
          <button
            class="btn btn-error btn-sm mt-2"
            disabled={acts.busy || confirming !== person.username}
            onclick={leave}>End their access</button
          >
        </section>
      {/if}
    </div>
  </div>
{/if}
