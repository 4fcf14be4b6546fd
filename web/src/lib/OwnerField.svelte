<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../api/client'

  /** Whose something is: a person, a team or a contact by name; a name that nobody bears becomes a contact. */
  let {
    id,
    value = $bindable(),
    label = '',
    placeholder = 'a name, or a team',
  }: { id: string; value: string; label?: string; placeholder?: string } = $props()
  let asked = $state(false)
  const known = createQuery(() => ({
    queryKey: ['owners', value.trim(), 'offered'],
    queryFn: () => ok(api.GET('/api/owners', { params: { query: { words: value.trim() ? JSON.stringify(value.trim()) : '' } } })),
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
  aria-label={label || undefined}
  {placeholder}
  onfocus={() => (asked = true)}
  bind:value
/>
<datalist id="{id}-known">
  {#each known.data?.items ?? [] as one (one.id)}<option value={one.written}>{one.kind}{one.mail ? `, ${one.mail}` : ''}</option
    >{/each}
</datalist>
