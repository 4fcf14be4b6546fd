<script lang="ts">
  /** One change of the selected rows, or of all that fit the filter: previewed, then made. */
  import { untrack } from 'svelte'
  import { api, ok, Problem, type Schemas } from '../api/client'
  import { acting } from './acting.svelte'
  import type { Choosing } from './choosing.svelte'
  import OwnerField from './OwnerField.svelte'
  import ProblemBox from './ProblemBox.svelte'
  import { tagsIn } from './tags'
  import TagsField from './TagsField.svelte'
  import { INTERVALS } from './words'

  let { choosing, words }: { choosing: Choosing; words: string } = $props()
  const of = untrack(() => choosing.of)
  const acts = acting('everything')
  /** The errors of a change are at its fields, unless they are about the rows themselves. */
  const shownAtField = $derived(
    Object.keys(acts.errors).length > 0 && !acts.errors.keys && !acts.errors.words,
  )
  const isTested = of === 'connections'
  const NOUNS = {
    applications: ['application', 'applications'],
    connections: ['connection', 'connections'],
    credentials: ['credential', 'credentials'],
    workloads: ['workload', 'workloads'],
  } as const
  const counted = (count: number) => `${count} ${NOUNS[of][count === 1 ? 0 : 1]}`

  let changesOwner = $state(false)
  let owner = $state('')
  let interval = $state('')
  let paused = $state('')
  let add = $state('')
  let remove = $state('')
  let preview = $state<Schemas['BulkPreview'] | null>(null)
  let done = $state<{
    changed: number
    unchanged: number
    refused: Schemas['RefusalOut'][]
  } | null>(null)
  let running = $state(false)
  let stopped = $state(false)

  const meant = $derived(choosing.all ? { of, words } : { of, keys: [...choosing.keys].sort() })
  // Another selection has another preview.
  $effect(() => {
    void meant
    untrack(() => {
      if (!running) preview = null
    })
  })
  const wanted = $derived({
    ...(changesOwner ? { owner } : {}),
    ...(interval ? { test_interval: Number(interval) } : {}),
    ...(paused ? { paused: paused === 'yes' } : {}),
    add_tags: tagsIn(add),
    remove_tags: tagsIn(remove),
  })
  const changesSomething = $derived(
    changesOwner || !!interval || !!paused || !!add.trim() || !!remove.trim(),
  )

  async function look(event: Event): Promise<void> {
    event.preventDefault()
    done = null
    preview = null
    const found = await acts.run(() => ok(api.POST('/api/bulk-changes/previews', { body: meant })))
    preview = found ?? null
  }
  async function change(): Promise<void> {
    const body = { ...meant, ...wanted, count: preview!.count }
    const total = { changed: 0, unchanged: 0, refused: [] as Schemas['RefusalOut'][] }
    running = true
    stopped = false
    done = total
    await acts.run(async () => {
      let after: string | null | undefined
      do {
        const answer = await ok(api.POST('/api/bulk-changes', { body: { ...body, after } }))
        total.changed += answer.changed
        total.unchanged += answer.unchanged
        total.refused.push(...answer.refused)
        done = { ...total }
        after = answer.after
      } while (after && !stopped)
    })
    running = false
    if (acts.problem instanceof Problem && !(total.changed + total.unchanged)) done = null
    else preview = null
  }
</script>

<section class="sheet mb-3 p-4" aria-label="Change selected rows">
  <p class="mb-2 flex flex-wrap items-baseline gap-x-4" aria-live="polite">
    {#if choosing.all}<strong>{words ? `All that fit “${words}”` : 'All'}</strong>
      <button class="act" onclick={() => choosing.clear()}>Clear selection</button>
    {:else}<strong>{choosing.keys.size} selected</strong>
      <button class="act" onclick={() => (choosing.all = true)}
        >{words ? `Select all that fit “${words}”` : 'Select all'}</button
      >
      {#if choosing.keys.size}<button class="act" onclick={() => choosing.clear()}
          >Clear selection</button
        >{/if}{/if}
    <button class="act ms-auto" disabled={running} onclick={() => (choosing.on = false)}
      >Close</button
    >
  </p>
  <form onsubmit={look}>
    <div class="grid grid-cols-1 gap-x-5 gap-y-2 sm:grid-cols-2 lg:grid-cols-4">
      {#if isTested}
        <div>
          <label class="label-text" for="bulk-rounds">Rounds</label>
          <select id="bulk-rounds" class="line-in" bind:value={paused}>
            <option value="">as it is</option>
            <option value="yes">paused</option>
            <option value="no">tested</option>
          </select>
        </div>
        <div>
          <label class="label-text" for="bulk-interval">Test interval</label>
          <select id="bulk-interval" class="line-in" bind:value={interval}>
            <option value="">as it is</option>
            {#each INTERVALS as [minutes, name] (minutes)}<option value={String(minutes)}
                >{name}</option
              >{/each}
          </select>
          {#if acts.errors.test_interval}<p role="alert" class="text-error">
              {acts.errors.test_interval}
            </p>{/if}
        </div>
      {:else}
        <div class="sm:col-span-2">
          <label class="flex min-h-[26px] items-center gap-2"
            ><input type="checkbox" bind:checked={changesOwner} /> Owner</label
          >
          {#if changesOwner}<OwnerField
              id="bulk-owner"
              label="New owner"
              placeholder="a name, or a team; empty: no owner"
              bind:value={owner}
            />{#if acts.errors.owner}<p role="alert" class="text-error">
                {acts.errors.owner}
              </p>{/if}{/if}
        </div>
      {/if}
      <div>
        <TagsField id="bulk-add" label="Add tags" bind:value={add} error={acts.errors.add_tags} />
      </div>
      <div>
        <TagsField
          id="bulk-remove"
          label="Remove tags"
          bind:value={remove}
          error={acts.errors.remove_tags}
        />
      </div>
    </div>
    {#if !preview && !running}<button
        class="btn btn-sm mt-3"
        disabled={acts.busy || !changesSomething || !(choosing.all || choosing.keys.size)}
        >See what would change</button
      >{/if}
  </form>
  {#if acts.problem && !shownAtField}<div class="mt-2">
      <ProblemBox problem={acts.problem} />
    </div>{/if}
  <div aria-live="polite">
    {#if preview && !running}
      {#if preview.count}
        <p class="mt-3">
          {counted(preview.count)}{preview.production
            ? `, ${preview.production} of them in production`
            : ''}: <span class="value">{preview.names.join(', ')}</span>{preview.count >
          preview.names.length
            ? ' …'
            : ''}
        </p>
        <p class="mt-2 flex gap-3">
          <button class="btn btn-primary btn-sm" disabled={acts.busy} onclick={change}
            >Change {counted(preview.count)}</button
          >
          <button class="btn btn-sm" onclick={() => (preview = null)}>Cancel</button>
        </p>
      {:else}<p class="mt-3">Nothing fits any more.</p>{/if}
    {/if}
    {#if done}
      <p class="mt-3" role="status">
        {#if running}{done.changed + done.unchanged + done.refused.length} of {preview?.count ?? ''}
          …
          <button class="act ms-2" onclick={() => (stopped = true)}>Stop</button>
        {:else}{stopped ? 'Stopped: ' : ''}{counted(done.changed)} changed{done.unchanged
            ? `, ${done.unchanged} ${done.unchanged === 1 ? 'was' : 'were'} so already`
            : ''}{done.refused.length ? `, ${done.refused.length} refused:` : '.'}{/if}
      </p>
      {#if done.refused.length}<ul class="text-error">
          {#each done.refused.slice(0, 50) as refused (refused.name)}<li>
              <span class="value">{refused.name}</span>: {refused.says}
            </li>{/each}
          {#if done.refused.length > 50}<li>and {done.refused.length - 50} more</li>{/if}
        </ul>{/if}
    {/if}
  </div>
</section>
