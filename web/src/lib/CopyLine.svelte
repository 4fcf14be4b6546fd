<script lang="ts">
  import Copy from './Copy.svelte'

  let { text, what }: { text: string; what: string } = $props()
</script>

<div
  class={[
    'border-base-300 bg-base-200 inline-flex max-w-full items-stretch',
    'overflow-hidden rounded-md border',
  ]}
>
  <code class="value px-2 py-1">{text}</code>
  <Copy {text} {what} />
</div>
