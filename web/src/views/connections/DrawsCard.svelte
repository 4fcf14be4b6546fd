<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Copy from '../../lib/Copy.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'

  let { ref }: { ref: string } = $props()
  const path = $derived({ path: { ref } })
  const draws = createQuery(() => ({
    queryKey: ['draws-of-connection', ref],
    queryFn: () => ok(api.GET('/api/connections/{ref}/draws', { params: path })),
    refetchInterval: 10000,
  }))
  const hands = createQuery(() => ({
    queryKey: ['drawable', ref],
    queryFn: () => ok(api.GET('/api/connections/{ref}/drawables', { params: path })),
  }))
  const acts = acting('connection')
  const letThem = () =>
    acts.run(() => ok(api.POST('/api/connections/{ref}/drawables', { params: path })))
  let open = $state(false)
  const lines = createQuery(() => ({
    queryKey: ['lines', ref],
    queryFn: () => ok(api.GET('/api/connections/{ref}/snippets', { params: path })),
    enabled: open,
  }))
  let language = $state('curl')
  const chosen = $derived(lines.data?.find((line) => line.language === language) ?? lines.data?.[0])
  const notLet = $derived(hands.data?.not_let ?? [])
</script>

<section class="sheet p-4" aria-labelledby="draws-title">
  <header class="flex items-baseline">
    <h2 id="draws-title">Drawn</h2>
    <button class="act ms-auto" aria-expanded={open} onclick={() => (open = !open)}
      >{open ? 'Close' : 'Lines to paste'}</button
    >
  </header>
  {#if hands.data}<p class="help">
      A draw hands out {hands.data.says}.
    </p>{/if}
  {#if notLet.length}
    <p class="bg-wait-ground my-1 rounded-md px-3 py-2">
      {notLet.join(', ')}
      {notLet.length === 1 ? 'has' : 'have'} a key that draws, but may not have the secret itself.
      {#if may('change')}<button class="act" disabled={acts.busy} onclick={() => void letThem()}
          >Permit {notLet.length === 1 ? 'it' : 'them'}</button
        >{/if}
    </p>
  {/if}
  <ProblemBox problem={acts.problem} />
  {#each draws.data ?? [] as draw (draw.workload ?? draw.last)}
    <p
      class="flex min-h-[26px] items-baseline gap-3"
      title={draw.secrets.length ? `with ${draw.secrets.join(', ')}` : undefined}
    >
      {#if draw.workload}<a class="hover:underline" href="/workloads/{draw.workload}"
          >{draw.workload_name}</a
        >{:else}<span>{draw.workload_name}</span>{/if}
      <span class="text-soft ms-auto text-end"
        >{draw.today} in 24 hours · <When at={draw.last} /></span
      >
    </p>
  {:else}{#if draws.data}<p class="help">
        Nobody has drawn it. A workload draws by reference name with a key of its own.
      </p>{/if}{/each}
  {#if open && chosen}
    <label class="mt-2 block"
      ><span class="label-text">For</span><select class="line-in" bind:value={language}
        >{#each lines.data ?? [] as line (line.language)}<option>{line.language}</option
          >{/each}</select
      ></label
    >
    <pre
      class={[
        'bg-base-200 value my-2 overflow-x-auto rounded-md p-2 text-[0.93em]',
        'whitespace-pre-wrap',
      ]}>{chosen.text}</pre>
    <Copy text={chosen.text} what="the lines for {chosen.language}" />
  {/if}
</section>
