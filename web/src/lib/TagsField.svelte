<script lang="ts">
  /** Tags, separated by spaces; those in use that begin as the last word are offered. */
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../api/client'

  let {
    id,
    value = $bindable(),
    label,
    error,
  }: { id: string; value: string; label: string; error?: string } = $props()
  let asked = $state(false)
  const words = $derived(value.toLowerCase().split(/[\s,]+/))
  const begin = $derived(words.at(-1) ?? '')
  const known = createQuery(() => ({
    queryKey: ['tags', begin],
    queryFn: () => ok(api.GET('/api/tags', { params: { query: { begin } } })),
    enabled: asked,
    placeholderData: (before) => before,
  }))
  const offered = $derived(
    (known.data ?? []).filter((tag) => tag.startsWith(begin) && !words.includes(tag)).slice(0, 8),
  )
  function take(tag: string): void {
    value = `${value.slice(0, value.length - begin.length)}${tag} `
    document.getElementById(id)?.focus()
  }
</script>

<label class="label-text" for={id}>{label}</label>
<input
  {id}
  class="line-in value"
  autocomplete="off"
  spellcheck="false"
  placeholder="night-run quay-4"
  aria-invalid={error ? 'true' : undefined}
  aria-describedby={error ? `${id}-error` : undefined}
  onfocus={() => (asked = true)}
  bind:value
/>
{#if error}<p id="{id}-error" role="alert" class="text-error">{error}</p>{/if}
{#if asked && offered.length}<p class="flex flex-wrap gap-x-3">
    <span class="help">in use:</span>
    {#each offered as tag (tag)}<button
        type="button"
        class="act value"
        aria-label="Add the tag {tag}"
        onclick={() => take(tag)}>{tag}</button
      >{/each}
  </p>{/if}
