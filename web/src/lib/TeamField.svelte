<script lang="ts">
  import { api, ok } from '../api/client'
  import Suggested from './Suggested.svelte'

  /** A team, by its name; empty: none. */
  let { id, value = $bindable() }: { id: string; value: string } = $props()
  const ask = async (words: string) => {
    const found = await ok(api.GET('/api/teams', { params: { query: { words } } }))
    return found.items.map((team) => ({ value: team.name }))
  }
</script>

<Suggested {id} of="teams" {ask} placeholder="none" bind:value />
