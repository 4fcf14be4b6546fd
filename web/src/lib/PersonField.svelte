<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../api/client'

  /** A person, by login name; those whose names have what is typed are offered. */
  let { id, value = $bindable(), label = '' }: { id: string; value: string; label?: string } = $props()
  let asked = $state(false)
  const known = createQuery(() => ({
    queryKey: ['people', 'offered', value.trim()],
    queryFn: () =>
      ok(
        api.GET('/api/people', { params: { query: { words: `access:on ${value.trim() ? JSON.stringify(value.trim()) : ''}` } } }),
      ),
    enabled: asked,
    staleTime: 20_000,
    placeholderData: (before) => before,
  }))
</script>

<input
  {id}
  class="line-in value"
  list="{id}-known"
  maxlength="150"
  autocomplete="off"
  spellcheck="false"
  aria-label={label || undefined}
  placeholder="a name"
  onfocus={() => (asked = true)}
  bind:value
/>
<datalist id="{id}-known">
  {#each known.data?.items ?? [] as one (one.username)}<option value={one.username}>{one.name}</option>{/each}
</datalist>
