<script lang="ts">
  /** Applications, connections or workloads from a spreadsheet: columns mapped, then previewed. */
  import { searchParams } from 'sv-router'
  import { api, ok, Problem, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import { sizeOf } from '../../lib/imports'
  import { capital, counted } from '../../lib/words'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import Changes from './Changes.svelte'

  type What = 'applications' | 'connections' | 'workloads'
  interface Mistake {
    line: number
    says: string
  }
  const WHAT: [What, string][] = [
    ['applications', 'Applications'],
    ['connections', 'Connections'],
    ['workloads', 'Workloads'],
  ]
  const acts = acting('everything')
  const asked = String(searchParams.get('table') ?? '')
  let what = $state<What>(WHAT.find(([key]) => key === asked)?.[0] ?? 'applications')
  let text = $state('')
  let name = $state('')
  let reading = $state<Schemas['TableReadingOut'] | null>(null)
  let columns = $state<Record<string, string>>({})
  let preview = $state<Schemas['TablePreviewOut'] | null>(null)
  let applied = $state<Schemas['ImportBegun'] | null>(null)
  const mistakes = $derived(
    acts.problem instanceof Problem
      ? ((acts.problem.extra.mistakes as Mistake[] | undefined) ?? [])
      : [],
  )
  const path = $derived({ path: { what } })
  const body = $derived({
    text,
    columns: Object.fromEntries(Object.entries(columns).filter(([, theirs]) => theirs)),
  })

  function startOver(): void {
    reading = preview = applied = null
    acts.problem = null
  }
  async function read(): Promise<void> {
    startOver()
    const found = await acts.run(() =>
      ok(api.POST('/api/imports/{what}/readings', { params: path, body: { text } })),
    )
    if (!found) return
    reading = found
    columns = Object.fromEntries(
      found.columns.map((column) => [column.name, found.suggested[column.name] ?? '']),
    )
  }
  async function take(files: FileList | null | undefined): Promise<void> {
    const file = files?.[0]
    if (!file) return
    name = file.name
    text = await file.text()
    await read()
  }
  async function look(): Promise<void> {
    preview = applied = null
    const found = await acts.run(() =>
      ok(api.POST('/api/imports/{what}/previews', { params: path, body })),
    )
    preview = found ?? null
  }
  async function apply(): Promise<void> {
    const standing = preview!.changes.standing
    const begun = await acts.run(() =>
      ok(api.POST('/api/imports/{what}', { params: path, body: { ...body, standing } })),
    )
    if (!begun) return
    startOver()
    text = name = ''
    applied = begun
  }
  const labelOf = (name: string) =>
    capital(name.replaceAll('_', ' ')).replace(/^Api/, 'API').replace(/ id$/, ' ID')
</script>

<section class="sheet p-4" aria-labelledby="table-in">
  <h2 id="table-in" class="mb-1">From a spreadsheet</h2>
  <p class="help mb-2">
    A table as CSV, with the columns in any order and under any names. An empty cell leaves what is
    there as it is, and no row removes anything. Secrets are not taken from tables: put them into
    each connection.
  </p>
  <div class="flex flex-wrap items-center gap-4">
    <fieldset class="flex flex-wrap gap-x-4">
      <legend class="sr-only">What is in the table</legend>
      {#each WHAT as [key, label] (key)}<label class="flex min-h-[26px] items-center gap-2"
          ><input
            type="radio"
            name="table-what"
            value={key}
            bind:group={what}
            onchange={() => (text.trim() ? read() : startOver())}
          />
          {label}</label
        >{/each}
    </fieldset>
    <label class="btn btn-sm"
      >Choose a table<input
        type="file"
        class="sr-only"
        accept=".csv,.tsv,.txt,text/csv"
        onchange={async (event) => {
          const input = event.currentTarget
          await take(input.files)
          input.value = '' // so that the same file, edited, can be chosen again
        }}
      /></label
    >
    <span class="value">{name}</span>
  </div>
  <label class="help mt-2 block" for="table-text">or paste it, with its heading</label>
  <textarea
    id="table-text"
    class="line-in value"
    rows="4"
    spellcheck="false"
    placeholder="System;Environment;Owner"
    bind:value={text}
    oninput={startOver}></textarea>
  {#if !reading}<button class="btn btn-sm mt-2" disabled={acts.busy || !text.trim()} onclick={read}
      >Read the columns</button
    >{/if}
  {#if reading}
    <div class="mt-3">
      <p class="mb-1">
        <strong>{counted(reading.rows, 'row')}</strong>. Which column holds what?
      </p>
      <div class="grid grid-cols-1 gap-x-5 gap-y-2 sm:grid-cols-2 lg:grid-cols-3">
        {#each reading.columns as column (column.name)}
          <div>
            <label class="label-text" for="column-{column.name}"
              >{labelOf(column.name)}{column.required ? ' (required)' : ''}
              <span class="help font-normal">{column.says}</span></label
            >
            <select
              id="column-{column.name}"
              class="line-in"
              bind:value={columns[column.name]}
              onchange={() => (preview = null)}
            >
              <option value="">{column.required ? 'choose a column' : 'not in the table'}</option>
              {#each reading.heading.filter(Boolean) as heading (heading)}<option value={heading}
                  >{heading}</option
                >{/each}
            </select>
          </div>
        {/each}
      </div>
      {#if !preview}<button class="btn btn-sm mt-3" disabled={acts.busy} onclick={look}
          >See what would change</button
        >{/if}
    </div>
  {/if}
  {#if acts.problem}<div class="mt-2"><ProblemBox problem={acts.problem} /></div>{/if}
  {#if mistakes.length}
    <table class="rows mt-2">
      <caption class="sr-only">Wrong with the table</caption>
      <thead><tr><th>Line</th><th>What is wrong</th></tr></thead>
      <tbody
        >{#each mistakes as mistake, at (at)}<tr><td>{mistake.line}</td><td>{mistake.says}</td></tr
          >{/each}</tbody
      >
    </table>
  {/if}
  <div aria-live="polite">
    {#if preview}
      <div class="mt-3 flex flex-col gap-2">
        {#if preview.duplicates.length}
          <div class="bg-wait-ground rounded-md px-3 py-2">
            <p class="font-semibold">Probably duplicates</p>
            {#each preview.duplicates as duplicate (duplicate)}<p>{duplicate}</p>{/each}
          </div>
        {/if}
        {#if preview.same || preview.left_out.length}<p class="help">
            {preview.same ? `${counted(preview.same, 'object')} unchanged.` : ''}
            {preview.left_out.length ? `Columns left out: ${preview.left_out.join(', ')}.` : ''}
          </p>{/if}
        <Changes preview={{ ...preview.changes, base_known: true }}>
          <button class="btn btn-primary btn-sm" disabled={acts.busy} onclick={apply}
            >Import the table</button
          >
        </Changes>
      </div>
    {:else if applied}
      <p class="bg-slate-ground mt-3 rounded-md px-3 py-2" role="status">
        {#if !applied.plan}Nothing had to be changed.
        {:else if applied.plan.ended}Imported: {sizeOf(applied.plan)}.
          <a class="act" href="/inventory/imports/{applied.plan.id}">Show or undo import</a>
        {:else}It is being imported in blocks: <a
            class="act"
            href="/inventory/imports/{applied.plan.id}">see how far it is</a
          >.{/if}
      </p>
    {/if}
  </div>
</section>
