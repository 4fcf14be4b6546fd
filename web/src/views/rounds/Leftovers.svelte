<script lang="ts">
  import { createInfiniteQuery } from '@tanstack/svelte-query'
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'

  type Leftover = Schemas['LeftoverOut']
  const acts = acting('round')
  const list = createInfiniteQuery(() => ({
    queryKey: ['leftovers'],
    queryFn: ({ pageParam }: { pageParam: string | undefined }) =>
      ok(api.GET('/api/leftovers', { params: { query: { cursor: pageParam } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page: Schemas['Leftovers']) => page.next ?? undefined,
    refetchInterval: 10_000,
  }))
  const rows = $derived((list.data?.pages ?? []).flatMap((page) => page.items))
  let closing = $state<number | null>(null)
  let reason = $state('')
  let result = $state('')

  const KNOWN: Record<Leftover['known'], string> = {
    asked: 'perhaps made: no answer came',
    made: 'made, not seen',
    seen: 'made and seen',
  }
  function clearing(row: Leftover): string {
    if (!row.address) return 'its address is not known'
    if (row.status) return `${row.method} returned ${row.status}`
    return row.tries ? `${row.method} got no answer` : 'not tried yet'
  }
  const retry = (row: Leftover) =>
    acts.run(async () => {
      const done = await ok(
        api.POST('/api/leftovers/{number}/retries', { params: { path: { number: row.id } } }),
      )
      result = done.gone
        ? `${row.name} is cleared away.`
        : `${row.name} is still left behind: ${answerOf(row.method, done.status)}.`
    })
  const answerOf = (method: string, status: number | null) =>
    status ? `${method} returned ${status}` : 'no answer came'
  const close = (row: Leftover) =>
    acts.run(async () => {
      await ok(
        api.POST('/api/leftovers/{number}/closures', {
          params: { path: { number: row.id } },
          body: { reason },
        }),
      )
      result = `${row.name} is closed.`
      closing = null
      reason = ''
    })
</script>

{#if rows.length || result}
  <section class="mt-6" aria-labelledby="leftovers">
    <h2 id="leftovers" class="mb-1">Left behind by tests</h2>
    <p class="help mb-2">
      What tests made and could not clear away. The worker retries where that can help; clear the
      rest away in the application.
    </p>
    {#if result}<p role="status" class="bg-slate-ground mb-2 rounded-md px-3 py-2">{result}</p>{/if}
    <ProblemBox problem={acts.problem} />
    {#if rows.length}
      <div class="sheet overflow-x-auto">
        <table class="rows">
          <thead
            ><tr
              ><th>What</th><th>Connection</th><th>Made by</th><th>Known</th><th>Clearing</th><th
                ><span class="sr-only">Actions</span></th
              ></tr
            ></thead
          >
          <tbody>
            {#each rows as row (row.id)}
              <tr data-leftover={row.name}>
                <td
                  ><a class="act value" href="/tests/{row.test}">{row.name}</a><br /><span
                    class="help"><When at={row.made} /></span
                  ></td
                >
                <td
                  ><a class="act value" href="/connections/{row.ref}">{row.ref}</a><br /><span
                    class="help">{row.application} · {row.environment}</span
                  ></td
                >
                <td class="value">{row.operation}</td>
                <td>{KNOWN[row.known]}</td>
                <td>{clearing(row)}</td>
                <td class="text-end whitespace-nowrap">
                  {#if may('test')}
                    {#if row.address}<button
                        class="act me-3"
                        disabled={acts.busy}
                        aria-label="Retry clearing {row.name}"
                        onclick={() => void retry(row)}>Retry</button
                      >{/if}
                    <button
                      class="act"
                      aria-label="Close {row.name}"
                      aria-expanded={closing === row.id}
                      onclick={() => {
                        closing = closing === row.id ? null : row.id
                        reason = ''
                      }}>Close …</button
                    >
                  {/if}
                </td>
              </tr>
              {#if closing === row.id}
                <tr>
                  <td colspan="6">
                    <form
                      class="flex items-end gap-3"
                      onsubmit={(event) => {
                        event.preventDefault()
                        void close(row)
                      }}
                    >
                      <label class="grow"
                        >What became of it <input
                          class="input input-sm w-full"
                          maxlength="300"
                          required
                          bind:value={reason}
                        /></label
                      >
                      <button class="btn btn-primary btn-sm" disabled={acts.busy}
                        >Close leftover</button
                      >
                      <button type="button" class="btn btn-sm" onclick={() => (closing = null)}
                        >Cancel</button
                      >
                    </form>
                  </td>
                </tr>
              {/if}
            {/each}
          </tbody>
        </table>
      </div>
      {#if list.hasNextPage}<button
          class="btn btn-sm mt-2"
          onclick={() => void list.fetchNextPage()}>Show more</button
        >{/if}
    {/if}
  </section>
{/if}
