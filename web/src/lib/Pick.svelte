<script lang="ts">
  /** The cell by which a row is selected. */
  import type { Choosing } from './choosing.svelte'

  let { choosing, id, name }: { choosing: Choosing; id: string; name: string } = $props()
</script>

<td class="w-8 align-middle"
  ><input
    type="checkbox"
    aria-label="Select {name}"
    checked={choosing.all || choosing.keys.has(id)}
    onchange={() => choosing.toggle(id)}
  /></td
>
