<script lang="ts">
  /** Tags, notes and links that people have put on an object. */
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ifMatch, ok, type Schemas } from '../api/client'
  import { acting } from './acting.svelte'
  import Loading from './Loading.svelte'
  import ProblemBox from './ProblemBox.svelte'
  import { may } from './session.svelte'
  import Tags from './Tags.svelte'
  import { tagsIn } from './tags'
  import TagsField from './TagsField.svelte'
  import When from './When.svelte'

  type Of =
    | 'applications' | 'clients' | 'connections' | 'credentials'
    | 'environments' | 'owners' | 'people' | 'workloads' // prettier-ignore
  interface Props {
    of: Of
    /** As the object's own page is addressed. */
    id: string
    /** The list that its tags lead to; empty: there is none. */
    list?: string
    /** It stands in the object's own card. */
    inside?: boolean
  }
  let { of, id, list = `/${of}`, inside = false }: Props = $props()
  const acts = acting('notes')
  const params = $derived({ path: { of, key: id } })
  const found = createQuery(() => ({
    queryKey: ['annotation', of, id],
    queryFn: () => ok(api.GET('/api/annotations/{of}/{key}', { params })),
  }))
  let editing = $state(false)
  let tags = $state('')
  let notes = $state('')
  let links = $state<Schemas['NoteLinkIn'][]>([])
  let version = $state(0)
  const title = $props.id()
  const isEmpty = $derived(
    !found.data?.tags.length && !found.data?.notes && !found.data?.links.length,
  )

  function edit(): void {
    if (!found.data) return
    tags = found.data.tags.join(' ')
    notes = found.data.notes
    links = found.data.links.map((link) => ({ ...link }))
    version = found.data.version
    acts.problem = null
    editing = true
  }
  async function save(event: Event): Promise<void> {
    event.preventDefault()
    const body = { tags: tagsIn(tags), notes, links }
    const saved = await acts.run(
      () => ok(api.PUT('/api/annotations/{of}/{key}', { params, body, headers: ifMatch(version) })),
      ['annotation', of, id],
    )
    if (saved) editing = false
  }
</script>

{#if !inside || editing || !isEmpty || may('change')}
  <svelte:element
    this={inside ? 'div' : 'section'}
    class={inside ? '' : 'sheet p-4'}
    aria-labelledby={inside ? undefined : `notes-${title}`}
  >
    <header class="flex items-baseline gap-x-3">
      <h2 id="notes-{title}" class={inside ? 'help !text-base' : ''}>Notes</h2>
      {#if may('change') && found.data && !editing}<button class="act ms-auto" onclick={edit}
          >{isEmpty ? 'Add notes' : 'Edit notes'}</button
        >{/if}
    </header>
    <Loading query={found} />
    {#if editing}
      <form class="mt-1 flex flex-col gap-2" onsubmit={save}>
        <div>
          <TagsField id="tags-{title}" label="Tags" bind:value={tags} error={acts.errors.tags} />
        </div>
        <div>
          <label class="label-text" for="text-{title}">Notes</label>
          <textarea
            id="text-{title}"
            class="line-in"
            rows="5"
            maxlength="10000"
            aria-invalid={acts.errors.notes ? 'true' : undefined}
            bind:value={notes}></textarea>
          {#if acts.errors.notes}<p role="alert" class="text-error">{acts.errors.notes}</p>{/if}
        </div>
        <fieldset>
          <legend class="label-text">Links</legend>
          {#each links as link, at (at)}<p class="mb-1 flex flex-wrap gap-2">
              <input
                class="line-in !w-40 grow"
                aria-label="Label of link {at + 1}"
                placeholder="Runbook"
                maxlength="100"
                bind:value={link.label}
              /><input
                class="line-in value !w-60 grow"
                aria-label="Address of link {at + 1}"
                placeholder="https://wiki.gannet.example/cargo"
                maxlength="1000"
                bind:value={link.address}
              /><button
                type="button"
                class="act"
                aria-label="Remove link {at + 1}"
                onclick={() => links.splice(at, 1)}>Remove</button
              >
            </p>{/each}
          <button type="button" class="act" onclick={() => links.push({ address: '', label: '' })}
            >Add a link</button
          >
          {#if acts.errors.links}<p role="alert" class="text-error">{acts.errors.links}</p>{/if}
        </fieldset>
        {#if !Object.keys(acts.errors).length}<ProblemBox problem={acts.problem} />{/if}
        <p class="flex flex-wrap gap-3">
          <button class="btn btn-primary btn-sm" disabled={acts.busy}>Save notes</button>
          <button type="button" class="btn btn-sm" onclick={() => (editing = false)}
            >Discard changes</button
          >
        </p>
      </form>
    {:else if found.data}
      {#if isEmpty && !inside}<p class="help">No tags, notes or links.</p>{/if}
      {#if found.data.tags.length}<p class="-ms-1">
          {#if list}<Tags
              tags={found.data.tags}
              {list}
            />{:else}{#each found.data.tags as tag (tag)}<span
                class="bg-quiet-ground ms-1 inline-block rounded-md px-1.5">{tag}</span
              >{/each}{/if}
        </p>{/if}
      {#if found.data.notes}<p class="mt-1 break-words whitespace-pre-wrap">
          {found.data.notes}
        </p>{/if}
      {#each found.data.links as link (link.address)}<p class="break-words">
          <a class="act" href={link.address} target="_blank" rel="noopener noreferrer"
            >{link.label || link.address}</a
          >
        </p>{/each}
      {#if found.data.changed_at && !isEmpty}<p class="help mt-1">
          {found.data.changed_by}, <When at={found.data.changed_at} />
        </p>{/if}
    {/if}
  </svelte:element>
{/if}
