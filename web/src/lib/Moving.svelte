<script lang="ts">
  import CodeField from './CodeField.svelte'
  import Field from './Field.svelte'
  import { answer, moving } from './leave.svelte'
  import ProblemBox from './ProblemBox.svelte'
  import { session } from './session.svelte'

  let dialog: HTMLDialogElement | undefined = $state()
  let reason = $state('')
  let code = $state('')
  let letting = $state(false)
  const open = $derived(moving.asked.moves.length > 0)
  const errors = $derived(moving.asked.refused?.errors ?? {})

  $effect(() => {
    if (open) dialog?.showModal()
    else {
      dialog?.close()
      reason = ''
      code = ''
      letting = false
    }
  })
  const send = (event: Event) => {
    event.preventDefault()
    answer({ code, reason, letGo: false })
    code = ''
  }
</script>

<dialog
  bind:this={dialog}
  class="sheet text-base-content m-auto w-[42rem] max-w-full p-5 backdrop:bg-black/40"
  aria-labelledby="moving-title"
  oncancel={(event) => {
    event.preventDefault()
    answer(null)
  }}
>
  <h2 id="moving-title" class="mb-2">{moving.asked.title.replace(/\.$/, '')}</h2>
  {#each moving.asked.moves as move, at (at)}
    <div class="border-base-300 mb-2 border-b pb-2">
      <p>
        {move.what} <span class="value">{move.hint}</span> of <span class="value">{move.ref}</span>
      </p>
      <dl class="grid grid-cols-[7rem_minmax(0,1fr)]">
        <dt class="text-soft">goes to</dt>
        <dd class="value wrap-anywhere">{move.goes_to}</dd>
        <dt class="text-error font-semibold">would go to</dt>
        <dd class="value text-error wrap-anywhere">{move.would_go_to}</dd>
      </dl>
    </div>
  {/each}
  <p class="mb-3">
    Nothing has been saved.
    {#if moving.asked.keeps}Anyone who has the secret itself can use it without Neat Latch until it
      is replaced there; through the relay it stays here.
    {:else}The operator of the other server can read what is sent there.{/if}
  </p>
  {#if letting}
    <p class="bg-bad-ground mb-3 rounded-md px-3 py-2">
      The change is saved, and what is named above is no longer held here: enter it again, or sign
      in again, to go on.
    </p>
    <button
      class="btn btn-error btn-sm"
      disabled={moving.busy}
      onclick={() => answer({ code: '', reason: '', letGo: true })}>Save and discard it</button
    >
    <button class="btn btn-sm" onclick={() => (letting = false)}>Back</button>
  {:else}
    <form onsubmit={send}>
      {#if session.who?.second_factor}
        <Field
          id="moving-reason"
          label={moving.asked.keeps ? 'Why it may have it' : 'Why it may go there'}
          error={errors.reason}
          help="It is in the journal."
          ><input
            id="moving-reason"
            class="line-in"
            maxlength="300"
            bind:value={reason}
            required
          /></Field
        >
        <CodeField id="moving-code" stored error={errors.code} bind:value={code} />
      {:else}
        <p class="help mb-3">
          For that you need a second factor that is at least a day old. Set one up at <a
            class="act"
            href="/me">My log-in</a
          >.
        </p>
      {/if}
      {#if !errors.code && !errors.reason}<ProblemBox problem={moving.asked.refused} />{/if}
      <p class="mt-3 flex flex-wrap gap-2">
        {#if session.who?.second_factor}<button
            class="btn btn-primary btn-sm"
            disabled={moving.busy}>{moving.asked.keeps ? 'Let it' : 'Send it there'}</button
          >{/if}
        {#if !moving.asked.keeps}<button
            type="button"
            class="btn btn-sm"
            onclick={() => (letting = true)}>Discard it …</button
          >{/if}
        <button type="button" class="btn btn-sm ms-auto" onclick={() => answer(null)}
          >Change nothing</button
        >
      </p>
    </form>
  {/if}
</dialog>
