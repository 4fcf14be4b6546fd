<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { searchParams } from 'sv-router'
  import { api, ok, Problem, type Schemas } from '../api/client'
  import { acting } from './acting.svelte'

  let {
    list,
    words = $bindable(),
    placeholder,
  }: { list: Schemas['FilterIn']['list']; words: string; placeholder: string } = $props()
  const acts = acting('filter')
  const kept = createQuery(() => ({
    queryKey: ['filters', list],
    queryFn: () => ok(api.GET('/api/filters', { params: { query: { list } } })),
    staleTime: 30_000,
  }))
  let naming = $state(false)
  let name = $state('')
  let shared = $state(false)
  const problem = $derived(acts.problem instanceof Problem ? acts.problem.detail : '')
  let copied = $state('')

  /** The filter stands in the address, so that it can be shared. */
  function filter(): void {
    if (words) searchParams.set('words', words)
    else searchParams.delete('words')
  }
  function take(wanted: string): void {
    words = wanted
    filter()
  }
  async function keep(event: Event): Promise<void> {
    event.preventDefault()
    const kept = await acts.run(() =>
      ok(api.POST('/api/filters', { body: { list, name, words, shared } })),
    )
    if (!kept) return
    naming = false
    name = ''
  }
  async function forget(id: number): Promise<void> {
    await acts.run(() =>
      ok(api.DELETE('/api/filters/{identity}', { params: { path: { identity: id } } })),
    )
  }
  async function copyAddress(): Promise<void> {
    try {
      await navigator.clipboard.writeText(location.href)
      copied = 'Address copied'
    } catch {
      copied = 'Copy it from the address bar'
    }
    setTimeout(() => (copied = ''), 2500)
  }
</script>

<input
  class="line-in max-w-sm"
  type="search"
  aria-label="Filter"
  {placeholder}
  bind:value={words}
  oninput={filter}
/>
<div class="flex flex-wrap items-center gap-x-3 gap-y-1">
  {#each kept.data ?? [] as entry (entry.id)}
    <span
      class="bg-quiet-ground inline-flex items-center rounded-md {entry.words === words
        ? 'font-bold'
        : ''}"
    >
      <button
        type="button"
        class="min-h-[26px] px-2"
        title="{entry.words}{entry.mine ? '' : `, kept by ${entry.by}`}"
        onclick={() => take(entry.words)}>{entry.name}</button
      >{#if entry.mine}<button
          type="button"
          class="text-soft min-h-[26px] min-w-[24px]"
          aria-label="Forget the filter {entry.name}"
          onclick={() => forget(entry.id)}>×</button
        >{/if}
    </span>
  {/each}
  {#if words && !naming}
    <button type="button" class="act" onclick={() => ((naming = true), (name = ''))}
      >Keep this filter</button
    >
    <button type="button" class="act" onclick={copyAddress}
      ><span aria-live="polite">{copied || 'Copy its address'}</span></button
    >
  {/if}
  {#if naming}
    <form class="flex items-center gap-2" onsubmit={keep}>
      <input
        class="line-in !w-40"
        aria-label="Name of the filter"
        placeholder="its name"
        bind:value={name}
      />
      <label class="flex min-h-[26px] items-center gap-1"
        ><input type="checkbox" bind:checked={shared} /> for everybody</label
      >
      <button class="btn btn-sm">Keep</button>
      <button type="button" class="act" onclick={() => (naming = false)}>Cancel</button>
      {#if problem}<span role="alert" class="text-error font-semibold">{problem}</span>{/if}
    </form>
  {/if}
</div>
