<script lang="ts">
  import Field from './Field.svelte'
  import { asPem } from './files'

  interface Props {
    value: string
    id: string
    label?: string
    help?: string
    error?: string
    required?: boolean
  }
  let {
    value = $bindable(),
    id,
    label = 'Signing request (PEM)',
    help = '',
    error = '',
    required = false,
  }: Props = $props()

  async function take(files: FileList | null | undefined): Promise<void> {
    const item = files?.[0]
    if (item) value = await asPem(item, 'CERTIFICATE REQUEST')
  }
  const drop = (event: DragEvent) => {
    if (!event.dataTransfer?.files.length) return
    event.preventDefault()
    void take(event.dataTransfer.files)
  }
</script>

<Field {id} {label} {help} {error}>
  <textarea {id} class="line-in value h-24" spellcheck="false" bind:value {required} ondrop={drop}
  ></textarea>
  <label class="act"
    >Choose a file<input
      type="file"
      class="sr-only"
      accept=".csr,.pem,.p10,.req,.der,.txt"
      onchange={(event) => void take(event.currentTarget.files)}
    /></label
  >
</Field>
