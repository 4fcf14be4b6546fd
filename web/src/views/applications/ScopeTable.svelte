<script lang="ts">
  import type { Schemas } from '../../api/client'

  type Scope = Schemas['ScopeIO']
  let {
    scopes,
    editable,
    save,
  }: { scopes: Scope[]; editable: boolean; save: (scopes: Scope[]) => Promise<boolean> } = $props()
  let draft = $state<Scope[] | null>(null)

  const edit = () => (draft = scopes.map((scope) => ({ ...scope, implies: [...scope.implies] })))
  const add = () =>
    draft?.push({ name: '', meaning: '', kind: 'read', administrator: false, implies: [] })
  /** What was typed stays until it is saved. */
  async function done(): Promise<void> {
    const wanted = (draft ?? [])
      .map((scope) => ({ ...scope, name: scope.name.trim() }))
      .filter((scope) => scope.name)
    if (await save(wanted)) draft = null
  }
</script>

<section class="sheet" aria-labelledby="scopes">
  <div class="border-base-300 flex items-center border-b px-4 py-2">
    <h2 id="scopes">Scopes</h2>
    {#if editable && !draft}<button class="act ms-auto" onclick={edit}
        >{scopes.length ? 'Edit scopes' : 'Enter scopes'}</button
      >{/if}
    {#if draft}<span class="ms-auto flex gap-4"
        ><button class="act" onclick={done}>Save</button><button
          class="act"
          onclick={() => (draft = null)}>Cancel</button
        ></span
      >{/if}
  </div>
  {#if scopes.length || draft?.length}
    <table class="rows">
      <thead><tr><th>Scope</th><th>Meaning</th><th>Kind</th><th>Consent</th></tr></thead>
      <tbody>
        {#each draft ?? scopes as entry, place (place)}
          <tr>
            {#if draft && place >= scopes.length}
              <td
                ><input
                  class="line-in value"
                  aria-label="Name of the new scope"
                  spellcheck="false"
                  bind:value={entry.name}
                /></td
              >
            {:else}
              <td class="value">{entry.name}</td>
            {/if}
            {#if draft}
              <td
                ><input
                  class="line-in"
                  aria-label="Meaning of {entry.name || 'the new scope'}"
                  bind:value={entry.meaning}
                /></td
              >
              <td
                ><select
                  class="line-in"
                  aria-label="Kind of {entry.name || 'the new scope'}"
                  bind:value={entry.kind}
                  ><option>read</option><option>write</option><option>admin</option></select
                ></td
              >
              <td
                ><label class="flex items-center gap-2"
                  ><input type="checkbox" bind:checked={entry.administrator} /> administrator</label
                ></td
              >
            {:else}
              <td
                >{entry.meaning}{#if entry.implies.length}<span class="help block"
                    >it includes <span class="value">{entry.implies.join(', ')}</span></span
                  >{/if}</td
              ><td>{entry.kind}</td><td
                >{entry.administrator ? 'an administrator' : 'the person'}</td
              >
            {/if}
          </tr>
        {/each}
      </tbody>
    </table>
  {:else}<p class="px-4 py-3">
      None are known. They come from its metadata or API description, or you enter them from its
      documents.
    </p>{/if}
  {#if draft}<p class="px-4 py-2"><button class="act" onclick={add}>Add a scope</button></p>{/if}
</section>
