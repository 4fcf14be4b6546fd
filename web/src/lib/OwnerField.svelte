<script lang="ts">
  import { api, ok } from '../api/client'
  import Suggested from './Suggested.svelte'

  /**
   * Whose something is: a person, a team or a contact by name; a name that nobody bears becomes a
   * contact.
   */
  let {
    id,
    value = $bindable(),
    label = '',
    placeholder = 'a name, or a team',
  }: { id: string; value: string; label?: string; placeholder?: string } = $props()
  const ask = async (words: string) => {
    const found = await ok(api.GET('/api/owners', { params: { query: { words } } }))
    return found.items.map((owner) => ({
      value: owner.written,
      says: `${owner.kind}${owner.mail ? `, ${owner.mail}` : ''}`,
    }))
  }
</script>

<Suggested {id} of="owners" {ask} {label} {placeholder} bind:value />
