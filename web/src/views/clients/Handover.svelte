<script lang="ts">
  import { onDestroy } from 'svelte'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Copy from '../../lib/Copy.svelte'
  import { download } from '../../lib/files'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import HandoverFile from '../handovers/HandoverFile.svelte'
  import HandoverLink from '../handovers/HandoverLink.svelte'
  import HandoverPacked from '../handovers/HandoverPacked.svelte'

  let {
    id: given,
    done,
    house = false,
    certificate = false,
    program = false,
    signing = false,
  }: {
    id: string | null | undefined
    done: () => void
    house?: boolean
    certificate?: boolean
    /** A program's token, which only its digest is kept of once it was taken. */
    program?: boolean
    /** A signing secret that was made here, and has to be entered in the application. */
    signing?: boolean
  } = $props()
  /**
   * Held until it is done: what is shown once must not vanish because the page around it was read
   * anew and the handover is no longer waiting.
   */
  let id = $state('')
  let way = $state<'' | 'link' | 'file' | 'packed'>('')
  let value = $state('')
  let hidden = $state(false)
  $effect(() => {
    if (!given) return
    id = given
    way = ''
    hidden = false
  })
  function over(): void {
    id = ''
    done()
  }
  const KEPT =
    'Neat Latch keeps it sealed for its own connections. ' +
    'If somebody else needs one, have a new one made.'
  let left = $state(60)
  const acts = acting('credential')
  let timer = 0

  async function show(): Promise<void> {
    await acts.run(async () => {
      const shown = await ok(
        api.POST('/api/handovers/{identity}/revelations', { params: { path: { identity: id } } }),
      )
      value = shown.value
      // By the clock and not by counting ticks, which a browser may hold back.
      const until = Date.now() + shown.hide_after_seconds * 1000
      left = shown.hide_after_seconds
      timer = window.setInterval(() => {
        left = Math.ceil((until - Date.now()) / 1000)
        if (left <= 0) gone()
      }, 1000)
    })
  }
  /** Out of the page and out of memory. */
  function gone(): void {
    clearInterval(timer)
    value = ''
    hidden = true
  }
  async function close(): Promise<void> {
    gone()
    await acts.run(async () => {
      await ok(
        api.POST('/api/handovers/{identity}/confirmations', { params: { path: { identity: id } } }),
      )
      over()
    })
  }
  onDestroy(gone)
</script>

<svelte:window onblur={() => value && gone()} />
{#if id}<section class="sheet border-secondary border-2 p-4" aria-labelledby="handover-title">
    <h2 id="handover-title">Handover of the new secret</h2>
    {#if value}
      <p class="my-2">
        This is the only time it is shown. It hides in {left} s, or when you leave the page.
      </p>
      <p
        class="border-base-300 bg-base-200 value mb-2 rounded-md border px-3 py-2 {certificate
          ? 'max-h-60 overflow-auto whitespace-pre'
          : 'text-[1.1rem]'}"
        data-secret
      >
        {value}
      </p>
      <div class="flex flex-wrap gap-2">
        <Copy text={value} what="the secret" />
        <button
          type="button"
          class="btn btn-sm"
          onclick={() =>
            download(certificate ? 'certificate-and-key.pem' : 'client-secret.txt', value)}
          >Download</button
        >
        <button type="button" class="btn btn-primary btn-sm" onclick={close}>I have it</button>
      </div>
    {:else if hidden}
      <p class="my-2">
        It is hidden again, and is not shown a second time. {program
          ? 'If you do not have it, revoke it and add another.'
          : KEPT}
      </p>
      <button type="button" class="btn btn-primary btn-sm" onclick={close}>I have it</button>
    {:else if way === 'link'}
      <HandoverLink {id} leave={() => (way = '')} />
    {:else if way === 'file'}
      <HandoverFile {id} leave={() => (way = '')} done={over} />
    {:else if way === 'packed'}
      <HandoverPacked {id} leave={() => (way = '')} done={over} />
    {:else}
      <p class="my-2">
        {#if signing}A signing secret was made, and calls are checked with it. Enter it in the
          application's screens: you can see it once.{:else}{certificate
            ? 'The house authority made a certificate and its key.'
            : house
              ? 'The house authority made a secret.'
              : 'The application gave a secret.'}
          {program
            ? 'You can see it once; then only a digest of it is kept.'
            : 'It is sealed here for the connections that will use it. You can see it once.'}{/if}
      </p>
      <div class="flex flex-wrap gap-2">
        <button type="button" class="btn btn-sm" onclick={show}>Show secret once</button>
        <button type="button" class="btn btn-sm" onclick={() => (way = 'link')}
          >Send a link that serves once</button
        >
        {#if certificate}<button type="button" class="btn btn-sm" onclick={() => (way = 'packed')}
            >Pack it as PKCS#12</button
          >{/if}
        <button type="button" class="btn btn-sm" onclick={() => (way = 'file')}
          >Encrypt it to its owner's key</button
        >
        {#if !program}<button type="button" class="btn btn-primary btn-sm" onclick={close}
            >I do not need to see it</button
          >{/if}
      </div>
      {#if house}<p class="help mt-2">A secret that is not taken within a day is revoked.</p>{/if}
    {/if}
    <ProblemBox problem={acts.problem} />
  </section>{/if}
