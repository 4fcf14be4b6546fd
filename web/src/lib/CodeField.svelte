<script lang="ts">
  import Field from './Field.svelte'

  let {
    id,
    label = 'Code of your second factor',
    help = '',
    error = '',
    value = $bindable(''),
  }: { id: string; label?: string; help?: string; error?: string; value?: string } = $props()
</script>

<Field {id} {label} {help} {error}>
  <input {id} class="line-in value" inputmode="numeric" autocomplete="one-time-code" bind:value required />
</Field>
