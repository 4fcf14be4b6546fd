<script lang="ts">
  /** A button that shows a few things below it, until one of them is chosen or one looks away. */
  import type { Snippet } from 'svelte'

  let {
    label,
    face,
    look = '',
    wide = 'w-64',
    open = $bindable(false),
    children,
  }: {
    /** What it is called where its face does not say so. */
    label?: string
    face: Snippet
    look?: string
    wide?: string
    open?: boolean
    children: Snippet
  } = $props()
  let box: HTMLElement | undefined = $state()
  let button: HTMLButtonElement | undefined = $state()

  /** What was opened by a key is gone on with by keys. */
  $effect(() => {
    if (!open || box?.contains(document.activeElement)) return
    const links = [...(box?.querySelectorAll<HTMLElement>('a') ?? [])]
    links.find((link) => link.checkVisibility())?.focus()
  })
  function onKey(event: KeyboardEvent): void {
    if (!open || event.key !== 'Escape') return
    open = false
    button?.focus()
  }
  function onLeave(event: FocusEvent): void {
    const to = event.relatedTarget
    if (to instanceof Node && !box?.contains(to)) open = false
  }
</script>

<svelte:window
  onclick={(event) => {
    if (open && box && !box.contains(event.target as Node)) open = false
  }}
/>
<!-- svelte-ignore a11y_no_static_element_interactions (it only hears what comes from within) -->
<div class="relative" bind:this={box} onkeydown={onKey} onfocusout={onLeave}>
  <button
    bind:this={button}
    type="button"
    class={look}
    aria-expanded={open}
    aria-label={label}
    onclick={() => (open = !open)}>{@render face()}</button
  >
  {#if open}
    <div class="sheet text-base-content absolute right-0 z-40 mt-2 p-3 shadow-lg {wide}">
      {@render children()}
    </div>
  {/if}
</div>
