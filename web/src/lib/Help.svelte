<script lang="ts">
  import { help } from './keys.svelte'
  import { MORE, MORE_LETTER, SECTIONS } from './sections'
  import { may } from './session.svelte'

  let dialog: HTMLDialogElement | undefined = $state()
  const KEYS: [string, string][] = $derived([
    ['/', 'Find anything'],
    ...[...SECTIONS, ...MORE]
      .filter((key) => !key.need || may(key.need))
      .map((item): [string, string] => [`g then ${item.letter}`, `Go to ${item.name}`]),
    [`g then ${MORE_LETTER}`, 'Open More'],
    ['j and k', 'Down and up in a list'],
    ['Enter', 'Open what has the focus'],
    ['T', 'Test'],
    ['N', 'New'],
    ['E', 'Edit'],
    ['I', 'Take something in: paste or drop anything'],
    ['?', 'Show these keys'],
  ])
  $effect(() => {
    if (help.open) dialog?.showModal()
    else dialog?.close()
  })
  /**
   * The event comes a moment after the closing: what has been opened again meanwhile stays open.
   */
  function closed(): void {
    if (!dialog?.open) help.open = false
  }
</script>

<dialog
  bind:this={dialog}
  class="sheet m-auto w-[26rem] p-5"
  aria-labelledby="keys-title"
  onclose={closed}
>
  <h2 id="keys-title">All keys</h2>
  <dl class="my-3 grid grid-cols-[9rem_1fr] gap-y-1">
    {#each KEYS as [key, what] (key)}
      <dt><kbd class="value border-base-300 rounded border px-1">{key}</kbd></dt>
      <dd>{what}</dd>
    {/each}
  </dl>
  <p class="flex items-baseline gap-4">
    <button type="button" class="btn btn-sm" onclick={() => (help.open = false)}>Close</button>
    <a class="act" href="/help" onclick={() => (help.open = false)}>Glossary</a>
  </p>
</dialog>
