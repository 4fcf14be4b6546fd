<script lang="ts" module>
  /** A certificate, its chain or its key, as somebody gave it: pasted, or as a file in base64. */
  export interface Given {
    text: string
    base64: string
    file: string
    password: string
  }
  export const nothing = (): Given => ({ text: '', base64: '', file: '', password: '' })
  export const isGiven = (given: Given) => Boolean(given.text.trim() || given.base64)
</script>

<script lang="ts">
  import Field from './Field.svelte'
  import { inBase64, LARGEST } from './files'

  interface Props {
    given: Given
    label: string
    id: string
    help?: string
    error?: string
    passwordError?: string
    chosen?: () => void
  }
  let {
    given = $bindable(),
    label,
    id,
    help = '',
    error = '',
    passwordError = '',
    chosen,
  }: Props = $props()
  let tooLarge = $state('')

  async function choose(files: FileList | null | undefined): Promise<void> {
    const item = files?.[0]
    if (!item) return
    tooLarge =
      item.size > LARGEST ? `${item.name} is larger than any certificate with its chain.` : ''
    if (tooLarge) return
    given = { ...given, text: '', base64: await inBase64(item), file: item.name }
    chosen?.()
  }
  const drop = (event: DragEvent) => {
    if (!event.dataTransfer?.files.length) return
    event.preventDefault()
    void choose(event.dataTransfer.files)
  }
</script>

<Field {id} {label} {help} {error}>
  <textarea
    {id}
    class="line-in value h-32"
    autocomplete="off"
    spellcheck="false"
    bind:value={given.text}
    oninput={() => (given = { ...given, base64: '', file: '' })}
    ondrop={drop}></textarea>
</Field>
<Field
  id="{id}-file"
  label="Or a file: PEM, DER, PKCS#7 or PKCS#12"
  error={tooLarge}
  help={given.file ? `${given.file} is taken.` : ''}
>
  <input
    id="{id}-file"
    type="file"
    class="w-full"
    onchange={(event) => void choose(event.currentTarget.files)}
  />
</Field>
<Field id="{id}-password" label="Its password, if it has one" error={passwordError}>
  <input
    id="{id}-password"
    type="password"
    class="line-in value"
    autocomplete="off"
    bind:value={given.password}
  />
</Field>
