<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../api/client'

  /** A team, by its name; empty: none. */
  let { id, value = $bindable() }: { id: string; value: string } = $props()
  let asked = $state(false)
  const known = createQuery(() => ({
    queryKey: ['teams', 'offered', value.trim()],
    queryFn: () => ok(api.GET('/api/teams', { params: { query: { words: value.trim() ? JSON.stringify(value.trim()) : '' } } })),
    enabled: asked,
    staleTime: 20_000,
    placeholderData: (before) => before,
  }))
</script>

<input
  {id}
  class="line-in"
  list="{id}-known"
  maxlength="120"
  autocomplete="off"
  placeholder="none"
  onfocus={() => (asked = true)}
  bind:value
/>
<datalist id="{id}-known">
  {#each known.data?.items ?? [] as one (one.id)}<option value={one.name}></option>{/each}
</datalist>
