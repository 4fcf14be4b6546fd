<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'

  interface Offered {
    value: string
    says?: string
  }
  interface Props {
    id: string
    value: string
    /**
     * What is offered, in the query cache; `ask` fetches what fits a filter of one word, or of
     * none.
     */
    of: 'owners' | 'people' | 'teams'
    ask: (words: string) => Promise<Offered[]>
    placeholder: string
    label?: string
    longest?: number
    name?: boolean
  }
  /**
   * A text for which what is known is offered, once somebody comes to it; `name`: as it is typed by
   * machines.
   */
  let {
    id,
    value = $bindable(),
    of,
    ask,
    placeholder,
    label = '',
    longest = 120,
    name = false,
  }: Props = $props()
  let asked = $state(false)
  const known = createQuery(() => {
    const words = value.trim() ? JSON.stringify(value.trim()) : ''
    return {
      queryKey: [of, 'offered', words],
      queryFn: () => ask(words),
      enabled: asked,
      staleTime: 20_000,
      placeholderData: (before) => before,
    }
  })
</script>

<input
  {id}
  class="line-in {name ? 'value' : ''}"
  list="{id}-known"
  maxlength={longest}
  autocomplete="off"
  spellcheck={name ? 'false' : undefined}
  aria-label={label || undefined}
  {placeholder}
  onfocus={() => (asked = true)}
  bind:value
/>
<datalist id="{id}-known">
  {#each known.data ?? [] as offer (offer.value)}<option value={offer.value}
      >{offer.says ?? ''}</option
    >{/each}
</datalist>
