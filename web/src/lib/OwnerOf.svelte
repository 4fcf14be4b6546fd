<script lang="ts">
  import type { Acting } from './acting.svelte'
  import OwnerField from './OwnerField.svelte'
  import { may } from './session.svelte'

  /**
   * Whose something is, and a way to set it; `save` runs among the acts of the page. Where no owner
   * is recorded, `from` says what the name shown is taken from, and the field begins empty: a name
   * that is saved becomes an owner.
   */
  let {
    id,
    owner,
    from = 'said',
    acts,
    save,
  }: {
    id: string
    owner: string
    from?: 'said' | 'workload' | 'account' | ''
    acts: Acting
    save: (owner: string) => Promise<unknown>
  } = $props()
  let typed = $state<string | null>(null)

  async function submit(event: Event): Promise<void> {
    event.preventDefault()
    await save(typed ?? '')
    if (!acts.problem) typed = null
  }
</script>

{#if typed === null}
  {owner || 'no owner is recorded'}
  {#if owner && from !== 'said'}<span class="help"
      >{from === 'workload' ? 'who draws with it' : 'the account'}</span
    >{/if}
  {#if may('change')}<button
      class="act ms-1"
      aria-label="Change the owner"
      onclick={() => (typed = from === 'said' ? owner : '')}>Change</button
    >{/if}
{:else}
  <form class="flex flex-wrap items-center gap-2" onsubmit={submit}>
    <span class="w-52"
      ><OwnerField
        {id}
        label="Owner"
        bind:value={() => typed ?? '', (name) => (typed = name)}
      /></span
    >
    <button class="btn btn-sm" disabled={acts.busy}>Save</button>
    <button type="button" class="act" onclick={() => (typed = null)}>Cancel</button>
  </form>
{/if}
