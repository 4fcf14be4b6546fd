<script lang="ts">
  import { api, ok, type Schemas } from '../../api/client'

  /**
   * `titled`: whether the list shows its own title; where a heading beside it says the same, only
   * screen readers hear it.
   */
  let {
    uris = $bindable(),
    error = '',
    titled = true,
  }: { uris: string[]; error?: string; titled?: boolean } = $props()
  let found = $state<Record<string, Schemas['LintOut'][]>>({})

  // What is wrong is asked as one types, a moment after the last key.
  let timer = 0
  $effect(() => {
    const asked = [...new Set(uris.filter((problem) => problem && !(problem in found)))]
    clearTimeout(timer)
    timer = window.setTimeout(async () => {
      for (const uri of asked)
        found[uri] = await ok(api.POST('/api/redirect-uris/lint', { body: { uri } })).catch(
          () => [],
        )
    }, 150)
  })
</script>

<fieldset class="mb-3">
  <legend class={titled ? 'label-text' : 'sr-only'}>Redirect URIs</legend>
  {#each uris as uri, place (place)}
    <div class="mb-2">
      <div class="flex gap-2">
        <input
          class="line-in value"
          aria-label="Redirect URI {place + 1}"
          bind:value={uris[place]}
          spellcheck="false"
          aria-invalid={(found[uri] ?? []).some((problem) => problem.grave) ? 'true' : undefined}
        />
        <button
          type="button"
          class="btn btn-sm"
          aria-label="Remove redirect URI {place + 1}"
          onclick={() => (uris = uris.filter((_, other) => other !== place))}>Remove</button
        >
      </div>
      <div aria-live="polite">
        {#each found[uri] ?? [] as problem (problem.code)}
          <p class={problem.grave ? 'text-error font-semibold' : 'text-warning font-semibold'}>
            {problem.says} <span class="help font-normal">{problem.source}</span>
          </p>
        {/each}
      </div>
    </div>
  {/each}
  {#if error}<p role="alert" class="text-error font-semibold">{error}</p>{/if}
  <button type="button" class="act" onclick={() => (uris = [...uris, ''])}>Add redirect URI</button>
  <p class="help">Compared character by character, a slash at the end included.</p>
</fieldset>
