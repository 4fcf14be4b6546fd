<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../api/client'

  /**
   * An application, by its key: chosen from a list, or, where there are too many for one, found by
   * typing.
   * `house`: one that accepts the house authority in this environment.
   */
  let {
    id,
    value = $bindable(),
    house = '',
    none = 'Choose one',
    error = '',
    changed,
  }: {
    id: string
    value: string
    house?: string
    none?: string
    error?: string
    changed?: () => void
  } = $props()

  interface Offered {
    key: string
    name: string
  }
  async function ask(words: string): Promise<{ items: Offered[]; next: string | null }> {
    if (!house) return ok(api.GET('/api/applications', { params: { query: { words } } }))
    const path = { environment: house }
    const found = await ok(
      api.GET('/api/house/{environment}/applications', { params: { path, query: { words } } }),
    )
    return {
      items: found.items.map((offer) => ({ key: offer.application, name: offer.name })),
      next: found.next,
    }
  }
  let typed = $state<string | null>(null)
  let own = value
  // Anyone who has the field chooses or clears it, too: what was typed before is over then.
  $effect(() => {
    if (value === own) return
    own = value
    typed = null
  })
  const first = createQuery(() => ({
    queryKey: ['applications', 'offered', house],
    queryFn: () => ask(''),
  }))
  const many = $derived(Boolean(first.data?.next))
  const words = $derived(typed?.trim() ? JSON.stringify(typed.trim()) : '')
  const found = createQuery(() => {
    // As it is now: a list that is asked for again is asked for by the words it came by.
    const asked = words
    return {
      queryKey: ['applications', 'offered', house, 'by', asked],
      queryFn: () => ask(asked),
      enabled: many,
      staleTime: 20_000,
      placeholderData: (before) => before,
    }
  })
  const offered = $derived(found.data?.items ?? [])
  const chosen = createQuery(() => ({
    queryKey: ['application', value],
    queryFn: () => ok(api.GET('/api/applications/{key}', { params: { path: { key: value } } })),
    enabled: many && Boolean(value),
  }))
  const shown = $derived(typed ?? (value ? (chosen.data?.name ?? value) : ''))

  function take(text: string): void {
    typed = text
    const key =
      offered.find((offer) => offer.name === text.trim() || offer.key === text.trim())?.key ?? ''
    if (key === value) return
    own = value = key
    changed?.()
  }
  // What was typed before the list of it came is looked for in it.
  $effect(() => {
    if (typed !== null && !value && offered.some((offer) => offer.name === typed?.trim()))
      take(typed)
  })
</script>

{#if many}
  <input
    {id}
    class="line-in"
    list="{id}-offered"
    autocomplete="off"
    maxlength="120"
    placeholder="type a part of its name"
    aria-invalid={error ? 'true' : undefined}
    value={shown}
    oninput={(event) => take(event.currentTarget.value)}
  />
  <datalist id="{id}-offered"
    >{#each offered as offer (offer.key)}<option value={offer.name}></option>{/each}</datalist
  >
{:else}
  <!-- Until it is known whether they fit a list, nobody types into what may become something
       else. -->
  <select
    {id}
    class="line-in"
    disabled={!first.data}
    aria-invalid={error ? 'true' : undefined}
    bind:value
    onchange={() => changed?.()}
  >
    <option value="">{none}</option>
    {#each first.data?.items ?? [] as offer (offer.key)}<option value={offer.key}
        >{offer.name}</option
      >{/each}
  </select>
{/if}
