<script lang="ts">
  import { api, ifMatch, ok, type Client } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'

  let { client }: { client: Client } = $props()
  const acts = acting('client')
  let open = $state(false)
  let text = $state('')
  let says = $state<string[] | null>(null)
  const path = $derived({ path: { identity: client.id } })

  const look = () =>
    acts.run(
      async () =>
        (says = (
          await ok(
            api.POST('/api/clients/{identity}/imports/previews', { params: path, body: { text } }),
          )
        ).says),
    )
  const take = () =>
    acts
      .run(() =>
        ok(
          api.POST('/api/clients/{identity}/imports', {
            params: path,
            body: { text },
            headers: ifMatch(client.version),
          }),
        ),
      )
      .then(() => {
        if (acts.problem) return
        open = false
        says = null
        text = ''
      })
</script>

<section class="sheet p-4" aria-labelledby="json">
  <h2 id="json" class="mb-1">As RFC 7591 JSON</h2>
  <p class="flex items-baseline gap-4">
    <a class="act" href="/api/clients/{client.id}/exports" download>Export</a>
    {#if may('change')}<button class="act" onclick={() => (open = !open)}
        >{open ? 'Cancel' : 'Import'}</button
      >{/if}
  </p>
  {#if open}
    <label class="help" for="json-text"
      >Client metadata, as an application returns it. Secrets in it are not imported.</label
    >
    <textarea id="json-text" class="line-in value" rows="5" spellcheck="false" bind:value={text}
    ></textarea>
    <div class="mt-2 flex gap-3">
      <button class="btn btn-sm" disabled={acts.busy || !text.trim()} onclick={look}
        >See what would change</button
      >
      {#if says?.length}<button class="btn btn-primary btn-sm" disabled={acts.busy} onclick={take}
          >{client.managed ? 'Change it there' : 'Save'}</button
        >{/if}
    </div>
    <div aria-live="polite">
      {#if says}{#each says as say (say)}<p>{say}</p>{:else}<p>Nothing would change.</p>{/each}{/if}
    </div>
  {/if}
  <ProblemBox problem={acts.problem} />
</section>
