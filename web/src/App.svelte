<script lang="ts">
  import { QueryClient, QueryClientProvider } from '@tanstack/svelte-query'
  import { Router } from 'sv-router'
  import { Problem } from './api/client'
  import { again } from './lib/fresh'
  import Brand from './lib/Brand.svelte'
  import Help from './lib/Help.svelte'
  import { onKey } from './lib/keys.svelte'
  import ImportStrip from './lib/ImportStrip.svelte'
  import Moving from './lib/Moving.svelte'
  import { look, readNotices, session } from './lib/session.svelte'
  import { mayNot, onPage } from './lib/roles'
  import { route } from './router'
  import TopBar from './lib/TopBar.svelte'
  import When from './lib/When.svelte'
  import LogIn from './views/LogIn.svelte'
  import SetUpFirst from './views/SetUpFirst.svelte'
  import ConnectLink from './views/links/ConnectLink.svelte'
  import HandoverLink from './views/links/HandoverLink.svelte'
  import ConsentLink from './views/links/ConsentLink.svelte'

  const client = new QueryClient({
    defaultOptions: {
      queries: {
        retry: (count, error) => count < 2 && error instanceof Problem && error.status >= 502,
        staleTime: 2000,
        refetchInterval: again as never,
        refetchOnWindowFocus: true,
      },
    },
  })
  let failed = $state('')
  const page = $derived(onPage(route.pathname))
  const rights = $derived(session.who?.may ?? [])
  const notHere = $derived(mayNot(page, rights))
  const forbidden = $derived(Boolean(page.whole && !rights.includes(page.whole)))
  /** A signed link that somebody was sent: its pages stand outside of the log-in. */
  const asked = /^\/asked\/(consent|connect|handover)\/([\w:.-]+)$/.exec(location.pathname)
  look().catch(
    (error: unknown) =>
      (failed = error instanceof Problem ? `${error.title} ${error.detail}` : String(error)),
  )
  // What one person saw is forgotten when they log out. Pages that need no log-in keep what they
  // are reading.
  let seen = false
  $effect(() => {
    if (session.who) seen = true
    else if (seen) {
      seen = false
      client.clear()
    }
  })
</script>

<svelte:window onkeydown={onKey} />
<QueryClientProvider {client}>
  {#if failed || asked || !session.who}
    <header class="bg-neutral text-neutral-content px-5"><Brand leads={false} /></header>
  {/if}
  {#if failed}
    <main class="sheet mx-auto mt-10 max-w-xl p-6" role="alert">
      <h1>Neat Latch does not answer</h1>
      <p class="my-3">{failed}</p>
      <button class="btn btn-primary" onclick={() => location.reload()}>Try again</button>
    </main>
  {:else if asked?.[1] === 'consent'}
    <ConsentLink token={asked[2]!} />
  {:else if asked?.[1] === 'handover' && session.known}
    <HandoverLink token={asked[2]!} />
  {:else if asked && session.known}
    <ConnectLink token={asked[2]!} />
  {:else if session.who}
    <a href="#main" class="bg-base-100 absolute -top-20 left-2 z-50 p-2 focus:top-2"
      >To the content</a
    >
    <TopBar />
    <main id="main" tabindex="-1" class="mx-auto max-w-[1600px] px-5 py-4 outline-none">
      {#if session.who.notices?.length}
        <section
          class="bg-wait-ground mb-4 rounded-md px-4 py-3"
          aria-label="What was done to your log-in"
        >
          {#each session.who.notices as notice (notice.at)}<p>
              <strong><When at={notice.at} /></strong>
              {notice.says}
            </p>{/each}
          <button class="act mt-1" onclick={() => void readNotices()}>I have read it</button>
        </section>
      {/if}
      <ImportStrip />
      {#if forbidden}<h1 class="mb-2">Not for your role</h1>{/if}
      {#if notHere}<p class="bg-quiet-ground mb-3 rounded-md px-3 py-2" data-may-not>
          {notHere}
        </p>{/if}
      {#if !forbidden}<Router />{/if}
    </main>
    <Help />
    <Moving />
  {:else if session.known && location.pathname === '/set-up'}
    <SetUpFirst />
  {:else if session.known}
    <LogIn />
  {/if}
</QueryClientProvider>
