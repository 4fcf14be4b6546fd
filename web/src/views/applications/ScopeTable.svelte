<script lang="ts">
  interface Scope {
    name: string
    meaning: string
    kind: string
    administrator: boolean
  }
  let { scopes, editable, save }: { scopes: Scope[]; editable: boolean; save: (scopes: Scope[]) => Promise<void> } = $props()
  let draft = $state<Scope[] | null>(null)

  const edit = () => (draft = scopes.map(({ name, meaning, kind, administrator }) => ({ name, meaning, kind, administrator })))
  async function done(): Promise<void> {
    if (draft) await save(draft)
    draft = null
  }
</script>

<section class="sheet" aria-labelledby="scopes">
  <div class="border-base-300 flex items-center border-b px-4 py-2">
    <h2 id="scopes">Scopes</h2>
    {#if editable && !draft && scopes.length}<button class="act ms-auto" onclick={edit}>Say what they mean</button>{/if}
    {#if draft}<span class="ms-auto flex gap-4"
        ><button class="act" onclick={done}>Save</button><button class="act" onclick={() => (draft = null)}>Leave it</button
        ></span
      >{/if}
  </div>
  {#if scopes.length}
    <table class="rows">
      <thead><tr><th>Scope</th><th>Meaning</th><th>Kind</th><th>Consent</th></tr></thead>
      <tbody>
        {#each draft ?? scopes as one (one.name)}
          <tr>
            <td class="value">{one.name}</td>
            {#if draft}
              <td><input class="line-in" aria-label="Meaning of {one.name}" bind:value={one.meaning} /></td>
              <td
                ><select class="line-in" aria-label="Kind of {one.name}" bind:value={one.kind}
                  ><option>read</option><option>write</option><option>admin</option></select
                ></td
              >
              <td
                ><label class="flex items-center gap-2"
                  ><input type="checkbox" bind:checked={one.administrator} /> administrator</label
                ></td
              >
            {:else}
              <td>{one.meaning}</td><td>{one.kind}</td><td>{one.administrator ? 'an administrator' : 'the person'}</td>
            {/if}
          </tr>
        {/each}
      </tbody>
    </table>
  {:else}<p class="px-4 py-3">None are known.</p>{/if}
</section>
