<script lang="ts">
  import { api, ok, Problem, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import Changes from './Changes.svelte'
  import Imports from './Imports.svelte'
  import TableImport from './TableImport.svelte'
  import { sizeOf } from '../../lib/imports'

  const acts = acting('everything')
  let text = $state('')
  let name = $state('')
  let prune = $state(false)
  let preview = $state<Schemas['InventoryPreviewOut'] | null>(null)
  let applied = $state<Schemas['ImportBegun'] | null>(null)
  /** Several files that are one import; none: what stands in the text. */
  let several = $state<{ name: string; text: string }[]>([])
  interface Mistake {
    file: string
    line: number
    where: string
    says: string
  }
  let mistakes = $state<Mistake[]>([])
  async function take(files: FileList | null | undefined): Promise<void> {
    const chosen = [...(files ?? [])]
    if (!chosen.length) return
    const read = await Promise.all(
      chosen.map(async (file) => ({ name: file.name, text: await file.text() })),
    )
    name = read.map((file) => file.name).join(', ')
    several = read.length > 1 ? read : []
    text = read.length > 1 ? '' : read[0]!.text
    await look()
  }
  function content(): Schemas['InventoryIn'] {
    return { prune, text: several.length ? '' : text, files: several }
  }
  function told_of(problem: unknown): void {
    mistakes =
      problem instanceof Problem ? ((problem.extra.mistakes as Mistake[] | undefined) ?? []) : []
  }
  async function look(): Promise<void> {
    applied = null
    await acts.run(async () => {
      preview = null
      preview = await ok(api.POST('/api/inventory/previews', { body: content() }))
    })
    told_of(acts.problem)
  }
  async function apply(): Promise<void> {
    await acts.run(async () => {
      applied = await ok(
        api.POST('/api/inventory/imports', { body: { ...content(), standing: preview!.standing } }),
      )
      preview = null
    })
    told_of(acts.problem)
  }
</script>

<svelte:head><title>Inventory · Neat Latch</title></svelte:head>
<header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
  <h1>Inventory</h1>
  <span class="help">everything as text, secrets by reference only</span>
</header>
{#if acts.problem}<div class="mb-3"><ProblemBox problem={acts.problem} /></div>{/if}
{#if mistakes.length}
  <section class="sheet mb-4 p-4" aria-labelledby="mistakes">
    <h2 id="mistakes" class="text-error mb-1">
      Wrong with {several.length ? 'the files' : 'the file'}; nothing was changed
    </h2>
    <table class="rows">
      <thead
        ><tr
          >{#if several.length}<th>File</th>{/if}<th>Line</th><th>Where</th><th>What</th></tr
        ></thead
      >
      <tbody
        >{#each mistakes as mistake, at (at)}<tr
            >{#if several.length}<td class="value">{mistake.file}</td>{/if}<td>{mistake.line}</td
            ><td class="value">{mistake.where}</td><td>{mistake.says}</td></tr
          >{/each}</tbody
      >
    </table>
  </section>
{/if}
<div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_356px] items-start gap-4">
  <div class="flex min-w-0 flex-col gap-4">
    {#if may('change')}
      <section class="sheet p-4" aria-labelledby="in">
        <h2 id="in" class="mb-1">Import files</h2>
        <p class="help mb-2">
          First see, object by object, what it would change. What somebody changed manually since
          the file was exported is reported and not overwritten. A file with a mistake changes
          nothing at all. A small one is applied as a whole; a large one in blocks, while the desk
          goes on serving. Several files are one import, and each import can be undone.
        </p>
        <div class="flex flex-wrap items-center gap-4">
          <label class="btn btn-sm"
            >Choose files<input
              type="file"
              multiple
              class="sr-only"
              accept=".yaml,.yml,text/yaml"
              onchange={async (event) => {
                const input = event.currentTarget
                await take(input.files)
                input.value = '' // so that the same file, edited, can be chosen again
              }}
            /></label
          >
          <span class="value">{name}</span>
          <label class="flex min-h-[26px] items-center gap-2"
            ><input
              type="checkbox"
              bind:checked={prune}
              onchange={() => (text || several.length) && look()}
            />
            <span>also remove what the file leaves out</span></label
          >
        </div>
        <label class="help mt-2 block" for="inventory-text">or paste it</label>
        <textarea
          id="inventory-text"
          class="line-in value"
          rows="8"
          spellcheck="false"
          bind:value={text}
          oninput={() => {
            several = []
            name = ''
          }}
          ondrop={(event) => {
            if (event.dataTransfer?.files.length) {
              event.preventDefault()
              void take(event.dataTransfer.files)
            }
          }}></textarea>
        <button
          class="btn btn-sm mt-2"
          disabled={acts.busy || !(text.trim() || several.length)}
          onclick={look}>See what would change</button
        >
      </section>
      <div aria-live="polite" class="empty:hidden">
        {#if preview}
          <Changes {preview}>
            <button class="btn btn-primary btn-sm" disabled={acts.busy} onclick={apply}
              >Apply all of it</button
            >
          </Changes>
        {:else if applied}
          <p class="bg-slate-ground rounded-md px-3 py-2" role="status">
            {#if !applied.plan}Nothing had to be changed.
            {:else if applied.plan.ended}Applied: {sizeOf(applied.plan)}{applied.plan.conflicts
                ? `; ${applied.plan.conflicts} left as they are`
                : ''}. Each change is in the journal.
              <a class="act" href="/inventory/imports/{applied.plan.id}">Show or undo import</a>
            {:else}It is being applied in blocks: <a
                class="act"
                href="/inventory/imports/{applied.plan.id}">see how far it is</a
              >.{/if}
          </p>
        {/if}
      </div>
      <TableImport />
    {/if}
  </div>
  <div class="flex flex-col gap-4">
    <section class="sheet p-4" aria-labelledby="out">
      <h2 id="out" class="mb-1">Export</h2>
      <p><a class="btn btn-sm" href="/api/inventory" download>The whole inventory, YAML</a></p>
      <p class="help mt-2">
        Environments, people, teams, applications, clients, connections, workloads and access rules.
        On the command line:
      </p>
      <p class="value">
        nlatch inventory export all.yaml<br />nlatch inventory preview all.yaml
      </p>
    </section>
    <Imports />
    <section class="sheet p-4" aria-labelledby="tables">
      <h2 id="tables" class="mb-1">Lists as tables</h2>
      <p class="flex flex-wrap gap-x-4">
        {#each ['connections', 'clients', 'credentials', 'workloads'] as table (table)}<a
            class="act"
            href="/api/exports/{table}"
            download>{table}.csv</a
          >{/each}
      </p>
      <p class="help mt-1">
        A client is also exported and imported as RFC 7591 JSON, an application is exported as
        OpenAPI, a connection as .env or .properties: on their own pages.
      </p>
    </section>
  </div>
</div>
