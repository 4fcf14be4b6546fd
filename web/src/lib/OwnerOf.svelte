<script lang="ts">
  import type { Acting } from './acting.svelte'
  import OwnerField from './OwnerField.svelte'
  import { may } from './session.svelte'

  /** Whose something is, and saying whose; `save` is run among the acts of the page. */
  let { id, owner, acts, save }: { id: string; owner: string; acts: Acting; save: (owner: string) => Promise<unknown> } = $props()
  let typed = $state<string | null>(null)

  async function submit(event: Event): Promise<void> {
    event.preventDefault()
    await save(typed ?? '')
    if (!acts.problem) typed = null
  }
</script>

{#if typed === null}
  {owner || 'nobody is noted'}
  {#if may('change')}<button class="act ms-1" aria-label="Change the owner" onclick={() => (typed = owner)}>Change</button>{/if}
{:else}
  <form class="flex flex-wrap items-center gap-2" onsubmit={submit}>
    <span class="w-52"><OwnerField {id} label="Owner" bind:value={() => typed ?? '', (name) => (typed = name)} /></span>
    <button class="btn btn-sm" disabled={acts.busy}>Save</button>
    <button type="button" class="act" onclick={() => (typed = null)}>Leave it</button>
  </form>
{/if}
