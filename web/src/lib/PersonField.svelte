<script lang="ts">
  import { api, ok } from '../api/client'
  import Suggested from './Suggested.svelte'

  /** A person who can log in, by login name. */
  let {
    id,
    value = $bindable(),
    label = '',
  }: { id: string; value: string; label?: string } = $props()
  const ask = async (words: string) => {
    const found = await ok(
      api.GET('/api/people', { params: { query: { words: `access:on ${words}` } } }),
    )
    return found.items.map((person) => ({ value: person.username, says: person.name }))
  }
</script>

<Suggested {id} of="people" {ask} {label} placeholder="a name" longest={150} name bind:value />
