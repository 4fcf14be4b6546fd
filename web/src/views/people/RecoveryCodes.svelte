<script lang="ts">
  import Copy from '../../lib/Copy.svelte'

  let { codes, done }: { codes: string[]; done: () => void } = $props()
</script>

<section class="bg-wait-ground mt-3 rounded-md px-4 py-3" aria-labelledby="recovery-title">
  <h3 id="recovery-title" class="font-bold">Your recovery codes</h3>
  <p class="mb-2">
    Each lets you in once in place of your second factor. They are shown this once: print them, or
    keep them where your password is not.
  </p>
  <ol class="value mb-2 grid grid-cols-2 gap-x-6">
    {#each codes as code (code)}<li>{code}</li>{/each}
  </ol>
  <Copy text={codes.join('\n')} what="the recovery codes" />
  <button class="btn btn-primary btn-sm ms-3" onclick={done}>I have kept them</button>
</section>
