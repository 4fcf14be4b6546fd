<script lang="ts">
  let { text, label = 'Copy', what }: { text: string; label?: string; what: string } = $props()
  let done = $state('')

  async function copy(): Promise<void> {
    try {
      await navigator.clipboard.writeText(text)
      done = 'Copied'
    } catch {
      done = 'Select it and copy it manually'
    }
    setTimeout(() => (done = ''), 2000)
  }
</script>

<button
  type="button"
  class="bg-brass-ground text-brass min-h-[28px] rounded-md px-3 font-semibold"
  onclick={copy}
  aria-label="{label}: {what}"
>
  <span aria-live="polite">{done || label}</span>
</button>
