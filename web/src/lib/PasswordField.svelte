<script lang="ts">
  import Field from './Field.svelte'

  let {
    id,
    label,
    help = '',
    error = '',
    value = $bindable(''),
    current = false,
    required = true,
  }: {
    id: string
    label: string
    help?: string
    error?: string
    value?: string
    /** It is the one in use, which a password manager knows; else one that is being chosen. */
    current?: boolean
    required?: boolean
  } = $props()
</script>

<Field {id} {label} {help} {error}
  ><input
    {id}
    type="password"
    class="line-in"
    autocomplete={current ? 'current-password' : 'new-password'}
    bind:value
    {required}
  /></Field
>
