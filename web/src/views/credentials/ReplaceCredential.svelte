<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { goto } from '../../router'

  let { id, leave }: { id: string; leave: () => void } = $props()
  const acts = acting('credential')
  const path = $derived({ params: { path: { identity: id } } })
  const found = createQuery(() => ({
    queryKey: ['replacement-previews', id],
    queryFn: () => ok(api.GET('/api/credentials/{identity}/replacement-previews', path)),
  }))
  let chosen = $state('')
  const way = $derived(found.data?.ways.find((way) => way.way === chosen) ?? found.data?.ways[0])
  const WAYS: Record<string, string> = {
    house: 'The house authority makes the second one',
    protocol: 'By protocol: the application makes it (RFC 7592)',
    hand: 'Manually, in the application’s own screens',
  }
  const begin = () =>
    acts.run(async () => {
      const made = await ok(
        api.POST('/api/credentials/{identity}/replacements', { ...path, body: { way: way!.way } }),
      )
      goto(`/replacements/${made.id}`)
    })
</script>

<section class="sheet mb-4 max-w-3xl p-4" aria-labelledby="replace-it">
  <h2 id="replace-it" class="mb-2">Replace credential</h2>
  <Loading query={found} />
  {#if found.data && way}
    {#each found.data.ways as entry (entry.way)}
      <label class="flex min-h-[26px] items-center gap-2"
        ><input
          type="radio"
          name="way"
          value={entry.way}
          checked={entry === way}
          onchange={() => (chosen = entry.way)}
        />
        {WAYS[entry.way]}</label
      >
    {/each}
    <div class="{way.overlaps ? 'bg-quiet-ground' : 'bg-wait-ground'} my-2 rounded-md px-3 py-2">
      <p class="font-semibold">{way.overlaps ? 'No gap' : 'A gap, before anything is started'}</p>
      {#each way.says as said (said)}<p>{said}</p>{/each}
    </div>
    <p class="help mb-2">
      {found.data.connections.length
        ? `Held by ${found.data.connections.join(', ')}.`
        : 'No connection here holds it: its holder is handed the new one.'}
      Nothing is made until the next page.
    </p>
    <button class="btn btn-primary btn-sm" disabled={acts.busy} onclick={begin}
      >Begin replacement</button
    >
  {:else if found.data}<p class="mb-2">
      It cannot be replaced from here: it is not known who issued it, and no connection holds it.
    </p>{/if}
  <button class="btn btn-sm" onclick={leave}>Cancel</button>
  <ProblemBox problem={acts.problem} />
</section>
