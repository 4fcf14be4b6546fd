<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../api/client'
  import { goto } from '../router'

  let words = $state('')
  let open = $state(false)
  let chosen = $state(0)
  let input: HTMLInputElement | undefined = $state()
  let closing = 0
  const found = createQuery(() => ({
    queryKey: ['find', words],
    queryFn: () => ok(api.GET('/api/search', { params: { query: { words } } })),
    enabled: words.trim().length > 0,
    staleTime: 10_000,
    placeholderData: (before) => before,
  }))
  const items = $derived(words.trim() ? (found.data ?? []) : [])

  function go(address: string): void {
    open = false
    words = ''
    input?.blur()
    goto(address)
  }
  function onkeydown(event: KeyboardEvent): void {
    if (event.key === 'ArrowDown') chosen = Math.min(items.length - 1, chosen + 1)
    else if (event.key === 'ArrowUp') chosen = Math.max(0, chosen - 1)
    else if (event.key === 'Enter' && items[chosen]) go(items[chosen]!.address)
    else if (event.key === 'Escape') open = false
    else return
    event.preventDefault()
  }
</script>

<div class="relative">
  <input
    bind:this={input}
    data-find
    type="search"
    role="combobox"
    aria-label="Find anything"
    aria-expanded={open && items.length > 0}
    aria-controls="find-list"
    aria-activedescendant={open && items[chosen] ? `find-${chosen}` : undefined}
    autocomplete="off"
    placeholder="Find anything   /"
    class={[
      'border-soft bg-neutral placeholder:text-neutral-content h-[32px]',
      'w-[220px] max-md:w-[10rem] rounded-md border px-3',
    ]}
    bind:value={words}
    oninput={() => ((open = true), (chosen = 0))}
    onfocus={() => {
      clearTimeout(closing) // of the time before: who types again at once keeps the list
      open = true
    }}
    onblur={() => (closing = window.setTimeout(() => (open = false), 150))}
    {onkeydown}
  />
  {#if open && words.trim()}
    <ul
      id="find-list"
      role="listbox"
      aria-label="Found"
      class={[
        'sheet text-base-content absolute right-0 z-40 mt-1 w-[460px]',
        'max-w-[calc(100vw-2rem)] overflow-hidden py-1 shadow-lg',
      ]}
    >
      {#each items as item, place (item.kind + item.address + item.name + place)}
        <li id="find-{place}" role="option" aria-selected={place === chosen}>
          <a
            href={item.address}
            tabindex="-1"
            class="flex min-h-[30px] items-center justify-between gap-3 px-3 {place === chosen
              ? 'bg-quiet-ground'
              : ''}"
            onmousedown={(event) => (event.preventDefault(), go(item.address))}
          >
            <span class="truncate"
              ><strong>{item.name}</strong> <span class="help">{item.detail}</span></span
            ><span class="help whitespace-nowrap">{item.kind}</span></a
          >
        </li>
      {:else}
        <li class="help px-3 py-1" role="option" aria-selected="false">
          {found.isFetching ? 'Looking …' : 'Nothing has this name.'}
        </li>
      {/each}
    </ul>
  {/if}
</div>
