<script lang="ts">
  import type { Schemas } from '../api/client'
  import { Problem } from '../api/client'
  import Field from './Field.svelte'
  import { here, prove } from './passkeys'
  import { session } from './session.svelte'

  let {
    id,
    label = 'Code of your second factor',
    help = '',
    error = '',
    value = $bindable(''),
    options,
    device = session.who?.device ?? true,
    stored = false,
  }: {
    id: string
    label?: string
    help?: string
    error?: string
    value?: string
    /** What to ask a passkey of somebody who is not logged in yet. */
    options?: Schemas['AskBrowser']['options']
    /** Whether a device shows codes; else a recovery code can be typed. */
    device?: boolean
    /** It opens what is stored, which no recovery code does. */
    stored?: boolean
  } = $props()
  let refused = $state('')
  let busy = $state(false)
  const passkey = $derived(here() && (!!options || (session.who?.passkeys?.length ?? 0) > 0))
  const proved = $derived(value.startsWith('passkey-'))

  async function use(): Promise<void> {
    busy = true
    refused = ''
    try {
      value = await prove(options)
    } catch (told) {
      refused = told instanceof Problem ? `${told.title} ${told.detail}` : String(told)
    }
    busy = false
  }
</script>

<Field
  {id}
  {label}
  help={proved ? '' : help || (device || stored ? '' : 'A recovery code serves too.')}
  error={error || refused}
>
  {#if proved}
    <p class="flex items-baseline gap-3" role="status">
      <span>Your passkey has signed.</span><button
        type="button"
        class="act"
        onclick={() => (value = '')}>Use a code instead</button
      >
    </p>
    <input {id} type="hidden" {value} />
  {:else}
    <span class="flex items-center gap-2">
      <input
        {id}
        class="line-in value"
        autocomplete="one-time-code"
        autocapitalize="none"
        spellcheck="false"
        bind:value
        required
      />
      {#if passkey}<button
          type="button"
          class="btn btn-sm whitespace-nowrap"
          disabled={busy}
          onclick={() => void use()}>Use a passkey</button
        >{/if}
    </span>
  {/if}
</Field>
