<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, type Cause, type Rung } from '../../api/client'
  import Loading from '../../lib/Loading.svelte'
  import { millis } from '../../lib/time'
  import When from '../../lib/When.svelte'
  import { ended, rungName } from '../../lib/words'
  import { param } from '../../router'

  const id = $derived(param('id'))
  const found = createQuery(() => ({
    queryKey: ['test', id],
    queryFn: () => ok(api.GET('/api/tests/{identity}', { params: { path: { identity: id } } })),
    refetchInterval: (query) => (query.state.data && !ended(query.state.data) ? 1000 : false),
  }))
  const rungs = $derived((found.data?.rungs ?? []) as unknown as Rung[])
  const causes = $derived(
    ((found.data?.diagnosis as { causes?: Cause[] } | null)?.causes ?? []) as Cause[],
  )
  /** What was sent and what was received, each with its heading, as text. */
  function sidesOf(exchange: Rung['exchanges'][number]): [string, string][] {
    const first = [exchange.method, exchange.url]
    const status = ['status', String(exchange.status ?? exchange.error)]
    const text = (lines: string[][], body: string) =>
      lines.map(([name, value]) => `${name}: ${value}`).join('\n') + (body ? `\n\n${body}` : '')
    return [
      ['Sent', text([first, ...exchange.request_headers], exchange.request_body)],
      ['Received', text([status, ...exchange.response_headers], exchange.response_body)],
    ]
  }
</script>

<svelte:head><title>Test of {found.data?.connection ?? ''} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  <header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
    <h1>Test</h1>
    <a class="act value" href="/connections/{found.data.connection}">{found.data.connection}</a>
    <span class="help"
      ><When at={found.data.begun} /> · started by {found.data.begun_by}{ended(found.data)
        ? ''
        : found.data.state === 'waiting'
          ? ' · it waits for its turn'
          : ' · it still runs'}</span
    >
  </header>
  <p class="help mb-3">Secrets are masked as •••.</p>
  {#if causes.length}
    <section class="bg-bad-ground mb-4 rounded-md px-4 py-3">
      <h2>Why it stopped, most likely first</h2>
      <ol class="ms-5 list-decimal">
        {#each causes as cause (cause.says)}<li class="py-0.5">
            <strong>{cause.says}</strong>
            {cause.reason} <em>{cause.mend}</em>
          </li>{/each}
      </ol>
    </section>
  {/if}
  {#each rungs as rung (rung.rung)}
    <section class="sheet mb-3 p-4" aria-labelledby="rung-{rung.rung}">
      <h2 id="rung-{rung.rung}" class="flex gap-3">
        <span class={rung.skipped ? 'text-soft' : rung.passed ? 'text-success' : 'text-error'}
          >{rung.skipped ? '○' : rung.passed ? '✓' : '✕'}</span
        ><span class="whitespace-nowrap">{rungName(rung.rung)}</span>
        <span class="text-soft font-normal">{rung.says}</span><span
          class="value ms-auto font-normal whitespace-nowrap"
          >{millis(rung.ms)}{rung.tries > 1 ? `, ${rung.tries} tries` : ''}</span
        >
      </h2>
      {#each rung.exchanges as exchange, place (place)}
        <details
          class="border-base-300 mt-2 border-t pt-2"
          open={!rung.passed && place === rung.exchanges.length - 1}
        >
          <summary class="min-h-[24px] cursor-pointer"
            ><span class="value"
              >{exchange.method}
              {exchange.url.length > 110 ? exchange.url.slice(0, 110) + '…' : exchange.url}</span
            >
            →
            <strong>{exchange.status ?? exchange.error}</strong>
            <span class="help">{millis(exchange.ms)}, {exchange.response_size} octets</span
            ></summary
          >
          <div class="grid grid-cols-2 gap-4 pt-1">
            {#each sidesOf(exchange) as [title, text] (title)}
              <div>
                <h3 class="font-semibold">{title}</h3>
                <pre class="value whitespace-pre-wrap text-[0.9em]">{text}</pre>
              </div>
            {/each}
          </div>
        </details>
      {/each}
    </section>
  {:else}<p>Nothing was sent.</p>{/each}
{/if}
