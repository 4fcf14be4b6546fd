<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Loading from '../../lib/Loading.svelte'
  import { paged } from '../../lib/paged.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import { span } from '../../lib/time'
  import When from '../../lib/When.svelte'
  import { grouped } from '../../lib/words'
  import { goto } from '../../router'
  import Leftovers from './Leftovers.svelte'
  import Permissions from './Permissions.svelte'

  const acts = acting('round')
  const list = paged(
    () => ['rounds'],
    (cursor) => ok(api.GET('/api/rounds', { params: { query: { cursor } } })),
    { every: 10_000 },
  )
  const rules = createQuery(() => ({
    queryKey: ['round-rules'],
    queryFn: () => ok(api.GET('/api/rounds/permissions')),
  }))
  const often = $derived(rules.data?.every_minutes ? span(rules.data.every_minutes * 60) : '')
  const lasted = (begun: string, ended: string | null) =>
    ended ? span((new Date(ended).getTime() - new Date(begun).getTime()) / 1000) : 'running'

  async function begin(): Promise<void> {
    const begun = await acts.run(() => ok(api.POST('/api/rounds')))
    if (begun) goto(`/rounds/${begun.number}`)
  }
</script>

<svelte:head><title>Rounds · Neat Latch</title></svelte:head>
<header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
  <h1>Rounds</h1>
  {#if often}<span class="help">every connection is tested every {often}</span>
  {:else if rules.data}<span class="help">no round begins by schedule</span>{/if}
  {#if may('test')}<button class="btn btn-primary btn-sm ms-auto" data-key="t" onclick={begin}
      >Test all now <kbd class="value rounded border border-current px-1 text-[0.85em]">T</kbd
      ></button
    >{/if}
</header>
<ProblemBox problem={acts.problem} />
<Loading query={list.query} />
{#if list.query.data}
  {#if list.rows.length}
    <div class="sheet overflow-x-auto">
      <table class="rows">
        <thead
          ><tr
            ><th>Round</th><th>Begun</th><th>By</th><th>Lasted</th><th>Tested</th><th>Failed</th
            ></tr
          ></thead
        >
        <tbody>
          {#each list.rows as row (row.number)}
            <tr data-row>
              <td><a class="act" href="/rounds/{row.number}">Round {row.number}</a></td>
              <td><When at={row.begun} past /></td><td>{row.begun_by}</td>
              <td>{row.stopped ? 'stopped after ' : ''}{lasted(row.begun, row.ended)}</td>
              <td>{grouped(row.done)} of {grouped(row.total)}</td>
              <td class={row.failed ? 'text-error font-semibold' : ''}>{row.failed}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if list.query.hasNextPage}<button
        class="btn btn-sm mt-3"
        onclick={() => list.query.fetchNextPage()}>Show more</button
      >{/if}
  {:else}<p class="sheet max-w-xl p-6">
      A round tests every connection once. {often
        ? `The worker begins one every ${often}; you can begin one now.`
        : 'None begins by schedule here. Test all connections now to see whether they work.'}
    </p>{/if}
{/if}
<Leftovers />
<Permissions />
