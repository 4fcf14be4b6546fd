<script lang="ts">
  import { route } from '../router'
  import Intake from './Intake.svelte'
  import { may } from './session.svelte'

  let dialog: HTMLDialogElement | undefined = $state()
  let open = $state(false)
  let said = $state<string[]>([])
  /**
   * On a connection's page, what is pasted can be put in place there; elsewhere it is only
   * explained.
   */
  const target = $derived(
    /^\/connections\/([\w-]+\/[a-z0-9-]+)/.exec(String(route.pathname))?.[1] ?? '',
  )
  let given = $state.raw<{ text: string; files: FileList | null }>({ text: '', files: null })
  function begin(text = '', files: FileList | null = null): void {
    given = { text, files }
    said = []
    open = true
  }
  // Anywhere on the page, unless a field of its own takes it: without this, a browser would leave
  // the page for a dropped file.
  const free = (event: Event) => !event.defaultPrevented && !open && may('change')
  function hover(event: DragEvent): void {
    if (event.dataTransfer?.types.includes('Files')) event.preventDefault()
  }
  function drop(event: DragEvent): void {
    if (!event.dataTransfer?.files.length) return
    const fits = free(event)
    event.preventDefault()
    if (fits) begin('', event.dataTransfer.files)
  }
  function paste(event: ClipboardEvent): void {
    const inField =
      event.target instanceof Element &&
      event.target.closest('input, textarea, select, [contenteditable]')
    if (inField || !free(event) || !event.clipboardData) return
    const text = event.clipboardData.getData('text')
    if (text.trim() || event.clipboardData.files.length)
      begin(text, event.clipboardData.files.length ? event.clipboardData.files : null)
  }
  $effect(() => {
    if (open) dialog?.showModal()
    else dialog?.close()
  })
  /**
   * The event comes a moment after the closing: what has been opened again meanwhile stays open.
   */
  function closed(): void {
    if (!dialog?.open) open = false
  }
</script>

<svelte:window ondragover={hover} ondrop={drop} onpaste={paste} />
{#if may('change')}
  <button
    type="button"
    class="border-soft min-h-[32px] rounded-md border px-3"
    data-key="i"
    title="Paste or drop anything: I"
    aria-label="Paste anything"
    onclick={() => begin()}>Paste<span class="max-sm:hidden">&nbsp;anything</span></button
  >
  <dialog
    bind:this={dialog}
    class={[
      'sheet text-base-content m-auto max-h-[86vh] w-[44rem]',
      'max-w-[calc(100vw-2rem)] overflow-y-auto p-5',
    ]}
    aria-labelledby="take-in-title"
    onclose={closed}
  >
    <h2 id="take-in-title" class="mb-2">
      {target ? `Take something in for ${target}` : 'What is this?'}
    </h2>
    {#if open}{#key target}<Intake
          connection={target}
          {given}
          left={() => (open = false)}
          taken={(notes) => (said = ['Put in place.', ...Object.values(notes).flat()])}
        />{/key}{/if}
    {#if said.length}<p role="status" class="bg-wait-ground mt-2 rounded-md px-3 py-2">
        {said.join(' ')}
      </p>{/if}
    {#if !target}<p class="help mt-2">
        Nothing is kept here. Values are put in place on the page of the connection that they belong
        to.
      </p>{/if}
    <button type="button" class="btn btn-sm mt-3" onclick={() => (open = false)}>Close</button>
  </dialog>
{/if}
