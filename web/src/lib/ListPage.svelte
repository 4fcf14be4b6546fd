<script lang="ts" generics="Row">
  import type { Snippet } from 'svelte'
  import type { Schemas } from '../api/client'
  import { searchParams } from 'sv-router'
  import BulkChange from './BulkChange.svelte'
  import type { Choosing } from './choosing.svelte'
  import FilterBar from './FilterBar.svelte'
  import Loading from './Loading.svelte'
  import Pick from './Pick.svelte'
  import { may } from './session.svelte'
  import SubNav from './SubNav.svelte'

  interface Query {
    isPending: boolean
    error: unknown
    data: unknown
    hasNextPage?: boolean
    fetchNextPage?: () => unknown
  }
  interface Props {
    title: string
    /** The row of pages that it stands in. */
    group?: 'applications' | 'credentials'
    /** Under which name its filters are kept. */
    list: Schemas['FilterIn']['list']
    /** The filter, which stands in the address too; `placeholder` shows what can be asked for. */
    words: string
    placeholder: string
    query: Query
    rows: Row[]
    /** What a row is told apart by. */
    key: (row: Row) => string | number
    /** Rows can be selected for one change of many; `named` is what a row is called. */
    choosing?: Choosing
    named?: (row: Row) => string
    /** Beside the heading: what can be done, or what the order is. */
    actions?: Snippet
    /** Between the heading and the rows. */
    above?: Snippet
    head?: Snippet
    row?: Snippet<[Row]>
    /** The rows, where they are not simply one below the other. */
    body?: Snippet<[Row[]]>
    /** What is said where there is nothing at all yet. */
    empty: Snippet
    /** Below the rows, and beside them. */
    below?: Snippet
    beside?: Snippet
  }
  let {
    title,
    group,
    list,
    words = $bindable(),
    placeholder,
    query,
    rows,
    key,
    choosing,
    named = (row) => String(key(row)),
    actions,
    above,
    head,
    row,
    body,
    empty,
    below,
    beside,
  }: Props = $props()
  function all(): void {
    words = ''
    searchParams.delete('words')
  }
</script>

<svelte:head><title>{title} · Neat Latch</title></svelte:head>
{#if group}<SubNav {group} />{/if}
<header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  <h1>{title}</h1>
  <FilterBar {list} bind:words {placeholder} />
  {#if choosing && !choosing.on && rows.length && may('change')}<button
      class="act"
      onclick={() => (choosing.on = true)}>Select rows</button
    >{/if}
  {@render actions?.()}
</header>
{#if choosing?.on}<BulkChange {choosing} {words} />{/if}
{@render above?.()}
<Loading {query} />
{#if query.data}
  {#snippet found()}
    {#if rows.length}
      {#if body}{@render body(rows)}
      {:else}
        <div class="sheet overflow-x-auto">
          <table class="rows">
            <thead
              ><tr
                >{#if choosing?.on}<th><span class="sr-only">Selected</span></th
                  >{/if}{@render head?.()}</tr
              ></thead
            >
            <tbody>
              {#each rows as shown (key(shown))}<tr data-row
                  >{#if choosing?.on}<Pick
                      {choosing}
                      id={String(key(shown))}
                      name={named(shown)}
                    />{/if}{@render row?.(shown)}</tr
                >{/each}
            </tbody>
          </table>
        </div>
      {/if}
      {#if query.hasNextPage}<button class="btn btn-sm mt-3" onclick={() => query.fetchNextPage?.()}
          >Show more</button
        >{/if}
    {:else if query.hasNextPage}
      <p class="sheet p-4" role="status">Looking further …</p>
    {:else if words}
      <p class="sheet p-4">
        Nothing fits “{words}”. <button class="act" onclick={all}>Show all</button>
      </p>
    {:else}
      <div class="sheet max-w-xl p-6">{@render empty()}</div>
    {/if}
  {/snippet}
  {#if beside}
    <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_320px] items-start gap-5">
      <div>{@render found()}{@render below?.()}</div>
      {@render beside()}
    </div>
  {:else}{@render found()}{@render below?.()}{/if}
{/if}
