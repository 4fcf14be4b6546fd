<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { clock } from '../../lib/clock.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Glyph from '../../lib/Glyph.svelte'
  import Loading from '../../lib/Loading.svelte'
  import { may } from '../../lib/session.svelte'
  import Spark from '../../lib/Spark.svelte'
  import { exact, fromNow } from '../../lib/time'
  import When from '../../lib/When.svelte'
  import { STATES } from '../../lib/words'

  const today = createQuery(() => ({ queryKey: ['today'], queryFn: () => ok(api.GET('/api/today')), refetchInterval: 15_000 }))
  const total = $derived(today.data ? Object.values(today.data.counts).reduce((a, b) => a + b, 0) : 0)
  const out = (fits: string[]) => fits.some((fit) => fit === 'differs' || fit === 'missing')
  // A connection may work and still have a pin out: by a rule of the house, not by a refusal. The counts say so, or they would not match the wall.
  const ruled = $derived(
    (today.data?.wall ?? [])
      .flatMap((row) => Object.values(row.cells).flat())
      .filter((one) => one.state === 'latched' && out(one.glyph.fits)).length,
  )
  const counts = $derived(
    Object.entries(today.data?.counts ?? {})
      .filter(([, count]) => count > 0)
      .map(
        ([state, count]) =>
          `${count} ${STATES[state]?.toLowerCase()}${state === 'latched' && ruled ? `, ${ruled} of them with a pin out` : ''}`,
      )
      .join(' · '),
  )
</script>

<svelte:head><title>Today · Neat Latch</title></svelte:head>
<Loading query={today} />
{#if today.data}
  {#if today.data.wall.length === 0}
    <section class="sheet mx-auto mt-10 max-w-xl p-6">
      <h1>Nothing is set up yet</h1>
      <p class="my-3">
        Here you will see every connection at a glance, and what will stop next. Begin with one application: what it is called and
        where it publishes how to sign in.
      </p>
      {#if may('change')}<a class="btn btn-primary" href="/applications/new" data-key="n">Add an application</a>
      {:else}<p class="help">An administrator can add the first application.</p>{/if}
    </section>
  {:else}
    <div class="grid grid-cols-[minmax(300px,450px)_minmax(0,1fr)] gap-5">
      <section aria-labelledby="breaks-title">
        <header class="mb-2 flex items-baseline gap-4">
          <h1 id="breaks-title">What breaks next</h1>
          <span class="help">soonest first</span>
        </header>
        <ol class="sheet">
          {#if today.data.journal_fault}
            <li class="border-base-300 grid grid-cols-[84px_1fr] gap-2 border-b px-4 py-3 last:border-0" role="alert">
              <span class="text-error font-bold">now</span>
              <div>
                <p class="font-bold">The journal does not hold</p>
                <p class="text-soft">
                  {today.data.journal_fault} Somebody or something changed it past Neat Latch. On the desk's machine,
                  <code>bin/nlatch journal check</code> looks at all of it.
                </p>
              </div>
            </li>
          {/if}
          {#each today.data.unsaved as one (one.note)}
            <li class="border-base-300 grid grid-cols-[84px_1fr] gap-2 border-b px-4 py-3 last:border-0">
              <time class="text-error font-bold" datetime={one.since} title={exact(one.since)}>now</time>
              <div>
                <p class="font-bold">{one.name ? `${one.application} · ${one.environment}` : 'An answer of an application'}</p>
                <p class="text-soft">
                  What {one.name ? `it gave for ${one.name}` : 'it gave'} could not be saved, and lies sealed beside the database as
                  <span class="value">{one.note}</span>. On the desk's machine, <code>bin/nlatch safe unsaved</code> tries again
                  and says what is left.
                  {#if one.client}If that does not help, replace this client's secret.{/if}
                </p>
                {#if one.ref}<a class="act" href="/connections/{one.ref}" aria-label="Sign in again: {one.name}">Sign in again</a>
                {:else if one.client}<a class="act" href="/clients/{one.client}" aria-label="Open the client: {one.name}"
                    >Open the client</a
                  >{/if}
              </div>
            </li>
          {/each}
          {#if today.data.leftovers}
            <li class="border-base-300 grid grid-cols-[84px_1fr] gap-2 border-b px-4 py-3 last:border-0">
              <span class="text-error font-bold">now</span>
              <div>
                <p class="font-bold">Left behind by tests</p>
                <p class="text-soft">
                  {today.data.leftovers === 1 ? 'One thing that a test made' : `${today.data.leftovers} things that tests made`}
                  could not be cleared away.
                </p>
                <a class="act" href="/rounds#leftovers">See what is left</a>
              </div>
            </li>
          {/if}
          {#each today.data.breaks as one (one.ref || one.user)}
            {@const name = one.application || one.users.join(', ')}
            <li class="border-base-300 grid grid-cols-[84px_1fr] gap-2 border-b px-4 py-3 last:border-0" data-row>
              <time
                class="font-bold {one.at
                  ? new Date(one.at).getTime() - clock.now < 3_600_000
                    ? 'text-error'
                    : 'text-warning'
                  : 'text-error'}"
                title={exact(one.at)}>{one.at ? fromNow(one.at, clock.now) : 'now'}</time
              >
              <div>
                <p class="font-bold">
                  {name} · {one.environment}{#if one.ref}&nbsp;<span class="value text-soft font-normal">{one.ref}</span>{/if}
                </p>
                <p class="text-soft">
                  {one.why}
                  {#if one.ref && one.users.length}{one.users.length === 1 ? one.users[0] : `${one.users.length} users`}
                    {one.at ? 'will stop' : 'stopped'}.{/if}
                </p>
                <a
                  class="act"
                  href={one.user
                    ? `/users/${one.user}`
                    : `/connections/${one.ref}${one.act === 'put_secret' ? '?put=secret' : ''}`}
                  aria-label="{one.label}: {name}, {one.environment}{one.ref ? `, ${one.ref}` : ''}">{one.label}</a
                >
              </div>
            </li>
          {:else}
            {#if !today.data.unsaved.length && !today.data.journal_fault && !today.data.leftovers}<li class="px-4 py-4">
                Nothing known will stop within 90 days.
              </li>{/if}
          {/each}
        </ol>
      </section>
      <section aria-labelledby="wall-title">
        <header class="mb-2 flex items-baseline gap-4">
          <h2 id="wall-title" class="text-[1.6rem] leading-tight">{total} {total === 1 ? 'connection' : 'connections'}</h2>
          <span class="help">{counts}</span>
          {#if today.data.last_round}
            <a class="act ms-auto" href="/rounds/{today.data.last_round.number}"
              >Round {today.data.last_round.number} · {#if today.data.last_round.ended}<When
                  at={today.data.last_round.ended}
                />{:else}{today.data.last_round.done} of {today.data.last_round.total}{/if}</a
            >
          {/if}
        </header>
        <div class="sheet overflow-x-auto">
          <table class="w-full table-fixed border-collapse">
            <caption class="sr-only"
              >Applications in their environments, with the pins, state and last tests of each connection</caption
            >
            <thead>
              <tr>
                <th class="w-[18%]"><span class="sr-only">Application</span></th>
                {#each today.data.environments as environment (environment.key)}
                  <th class="border-base-300 h-10 border-l px-3 text-start"><EnvBadge {environment} /></th>
                {/each}
              </tr>
            </thead>
            <tbody>
              {#each today.data.wall as row (row.application)}
                <tr>
                  <th scope="row" class="border-base-300 border-t px-4 text-start"
                    ><a href="/applications/{row.application}" class="hover:underline">{row.name}</a></th
                  >
                  {#each today.data.environments as environment (environment.key)}
                    {@const cells = row.cells[environment.key] ?? []}
                    {@const bad = cells.some((one) => one.state === 'open' || one.state === 'sticking' || out(one.glyph.fits))}
                    <td class="border-base-300 h-[53px] border-t border-l px-3 py-1 align-middle {bad ? 'bg-bad-ground' : ''}">
                      {#each cells as cell (cell.ref)}
                        <a
                          href="/connections/{cell.ref}"
                          class="flex min-h-[28px] items-center gap-3"
                          title="{cell.ref}: {STATES[cell.state]}"
                        >
                          <Glyph fits={cell.glyph.fits} says="{cell.ref}, {STATES[cell.state]}: {cell.glyph.says}" />
                          <span class="ms-auto min-w-0 shrink text-end text-[0.93em]">
                            {#if cell.says}<span class="font-bold {bad ? 'text-error' : 'text-soft'}">{cell.says}</span
                              >{:else}<Spark samples={cell.samples} />{/if}
                          </span>
                        </a>
                      {:else}
                        <span class="text-soft block text-center">—<span class="sr-only">not set up</span></span>
                      {/each}
                    </td>
                  {/each}
                </tr>
              {/each}
            </tbody>
          </table>
        </div>
      </section>
    </div>
  {/if}
{/if}
