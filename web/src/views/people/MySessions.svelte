<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { take } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'

  const acts = acting('me')
  const list = createQuery(() => ({
    queryKey: ['own-sessions'],
    queryFn: () => ok(api.GET('/api/session/sessions')),
  }))
  const end = (identity: string) =>
    acts.run(() =>
      ok(api.DELETE('/api/session/sessions/{identity}', { params: { path: { identity } } })),
    )
  const endAll = (here: boolean) =>
    acts.run(async () =>
      take(await ok(api.POST('/api/session/log-outs', { params: { query: { here } } }))),
    )
  const others = $derived((list.data ?? []).filter((session) => !session.here).length)
  /** What a browser says of itself is long; its own name and its system stand in it. */
  function browser(text: string): string {
    const name = /(Edg|Firefox|Chrome|Safari|curl|python-\w+)\/(\d+)/.exec(text)
    const system = /Windows|Macintosh|Android|iPhone|iPad|Linux/.exec(text)?.[0]
    return (
      [name ? `${name[1]!.replace(/^Edg$/, 'Edge')} ${name[2]}` : '', system]
        .filter(Boolean)
        .join(', ') || text.slice(0, 60)
    )
  }
</script>

<section class="sheet p-4" aria-labelledby="sessions">
  <h2 id="sessions" class="mb-1">Where you are logged in</h2>
  <Loading query={list} />
  {#if list.data}
    <table class="rows mb-3">
      <thead
        ><tr
          ><th>Since</th><th>From</th><th>With</th><th>Last seen</th><th
            ><span class="sr-only">End session</span></th
          ></tr
        ></thead
      >
      <tbody>
        {#each list.data as session (session.id)}
          <tr>
            <td><When at={session.begun} /></td><td class="value">{session.address}</td><td
              title={session.browser}>{browser(session.browser)}</td
            >
            <td
              >{#if session.here}<strong>here</strong>{:else}<When at={session.seen} />{/if}</td
            >
            <td class="text-end"
              >{#if !session.here}<button
                  class="act"
                  disabled={acts.busy}
                  onclick={() => void end(session.id)}>End session</button
                >{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
  <p class="help mb-3">
    A session ends after twelve hours, and when your password, your role or your second factor
    changes.
  </p>
  <ProblemBox problem={acts.problem} />
  {#if others}<button class="btn btn-sm" disabled={acts.busy} onclick={() => void endAll(false)}
      >End all others</button
    >{/if}
  <button class="btn btn-sm" disabled={acts.busy} onclick={() => void endAll(true)}
    >Log out everywhere</button
  >
</section>
