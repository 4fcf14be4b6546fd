<script lang="ts">
  import { onMount } from 'svelte'
  import { api, ok, Problem, type Schemas } from '../api/client'
  import { acting } from './acting.svelte'
  import { goto } from '../router'
  import { carry } from './carried'
  import { fromBase64, inBase64, LARGEST } from './files'
  import ProblemBox from './ProblemBox.svelte'

  interface Props {
    connection?: string
    /** What was pasted or dropped elsewhere on the page, to begin with. */
    given?: { text: string; files: FileList | null }
    taken?: (notes: Record<string, string[]>) => void
    /** The page is left for another. */
    left?: () => void
  }
  let { connection = '', given, taken, left }: Props = $props()
  const acts = acting('connection')
  const uid = $props.id()
  let text = $state('')
  let file = $state<{ name: string; base64: string } | null>(null)
  let password = $state('')
  let found = $state<Schemas['LookedInto'] | null>(null)
  let chosen = $state<Record<string, boolean>>({})
  let choices = $state<Record<string, string>>({})
  let problem = $state<unknown>(null)
  let over = $state(false)
  let timer = 0
  let asked = 0
  const locked = $derived(problem instanceof Problem && Boolean(problem.errors.password))
  const body = $derived({
    text: file ? '' : text,
    base64: file?.base64 ?? '',
    password,
    connection,
  })
  const count = $derived(
    (found?.placed.filter((value) => chosen[value.key]).length ?? 0) +
      Object.values(choices).filter(Boolean).length,
  )

  function later(): void {
    clearTimeout(timer)
    timer = window.setTimeout(look, 250)
  }
  async function look(): Promise<void> {
    found = null
    problem = null
    if (!file && !text.trim()) return
    const mine = ++asked
    try {
      const answer = await ok(api.POST('/api/intakes', { body }))
      if (mine !== asked) return
      found = answer
      chosen = Object.fromEntries(answer.placed.map((value) => [value.key, true]))
      choices = {}
    } catch (error) {
      if (mine === asked) problem = error
    }
  }
  async function drop(files: FileList | null | undefined): Promise<void> {
    over = false
    const item = files?.[0]
    if (!item) return
    if (item.size > LARGEST) {
      problem = new Problem(
        0,
        `${item.name} is too large.`,
        `More than ${LARGEST / 2 ** 20} MiB is not read. Drop only the file with the values.`,
      )
      return
    }
    file = { name: item.name, base64: await inBase64(item) }
    text = ''
    await look()
  }
  async function take(): Promise<void> {
    problem = null
    const only = Object.keys(chosen).filter((key) => chosen[key])
    const picked = Object.fromEntries(Object.entries(choices).filter(([, name]) => name))
    const params = { path: { ref: connection } }
    // What was recognised stays until the page shows what became of it: the page moves once, not
    // twice, below somebody's pointer.
    const saved = await acts.run(() =>
      ok(
        api.POST('/api/connections/{ref}/intakes', {
          params,
          body: { ...body, only, choices: picked },
        }),
      ),
    )
    problem = acts.problem
    if (!saved) return
    clear()
    taken?.(saved.notes ?? {})
  }
  onMount(() => {
    if (given?.files) void drop(given.files)
    else if (given?.text) {
      text = given.text
      void look()
    }
  })
  function add(): void {
    carry(file ? fromBase64(file.base64) : text)
    left?.()
    goto('/applications/new')
  }
  function clear(): void {
    text = password = ''
    file = found = null
    problem = null
  }
</script>

<div
  class="rounded-md border border-dashed p-3 {over
    ? 'border-primary bg-slate-ground'
    : 'border-soft bg-base-200'}"
  role="group"
  aria-label="Paste or drop"
  ondragover={(event) => (event.preventDefault(), (over = true))}
  ondragleave={() => (over = false)}
  ondrop={(event) => (event.preventDefault(), void drop(event.dataTransfer?.files))}
>
  <label class="label-text" for="{uid}-text">Paste or drop anything here</label>
  {#if file}
    <p class="value">
      {file.name}
      <button type="button" class="act ms-2" onclick={clear}>Choose another file</button>
    </p>
  {:else}
    <textarea
      id="{uid}-text"
      rows="3"
      class="line-in value"
      spellcheck="false"
      autocomplete="off"
      placeholder="a downloaded file, an address, lines of settings, a certificate, a curl line"
      bind:value={text}
      oninput={later}></textarea>
    <label class="act mt-1"
      >Choose a file<input
        type="file"
        class="sr-only"
        onchange={(event) => void drop(event.currentTarget.files)}
      /></label
    >
  {/if}
  {#if locked || password}
    <label class="mt-2 block"
      ><span class="label-text">Its password</span><input
        type="password"
        autocomplete="off"
        class="line-in value max-w-xs"
        bind:value={password}
        oninput={later}
      /></label
    >
  {/if}
</div>
<div aria-live="polite">
  {#if found}
    <div class="mt-3" data-intake={found.kind}>
      <p class="font-bold">{found.says}.</p>
      {#each found.known as value (value)}<p class="text-warning font-semibold">{value}</p>{/each}
      {#if found.facts.length}
        <dl class="my-1 grid grid-cols-[8.5rem_1fr] gap-x-3">
          {#each found.facts as fact, place (place)}
            <dt class="text-soft">{fact.label}</dt>
            <dd class="value {fact.value.includes('NOT') ? 'text-error font-semibold' : ''}">
              {fact.value}
            </dd>
          {/each}
        </dl>
      {/if}
      {#if found.placed.length}
        <p class="help mt-1">Goes where it belongs:</p>
        <ul>
          {#each found.placed as entry (entry.key)}
            <li class="py-0.5" data-placed={entry.key}>
              <label class="flex min-h-[24px] flex-wrap items-baseline gap-x-2"
                ><input type="checkbox" bind:checked={chosen[entry.key]} />
                <span>{entry.label}</span>
                <span class="value">{entry.shown}</span>
                {#if entry.name}<span class="help">from {entry.name}</span>{/if}</label
              >
              {#each entry.notes as note (note)}<p
                  class="text-warning ms-6 text-[0.93em] font-semibold"
                >
                  {note}
                </p>{/each}
            </li>
          {/each}
        </ul>
      {/if}
      {#if found.open.length && connection}
        <p class="help mt-1">Not clear; choose if you know:</p>
        {#each found.open as entry (entry.key)}
          <label class="flex min-h-[30px] items-center gap-2"
            ><span class="w-40">{entry.label}</span>
            <select class="line-in max-w-xs" bind:value={choices[entry.key]}
              ><option value="">none of it</option>{#each entry.names as name (name)}<option
                  >{name}</option
                >{/each}</select
            ></label
          >
        {/each}
      {/if}
      {#if found.left.length}<p class="help mt-1">
          Left: {found.left.slice(0, 12).join('; ')}{found.left.length > 12
            ? `; and ${found.left.length - 12} more`
            : ''}.
        </p>{/if}
      {#if connection}
        <button
          type="button"
          class="btn btn-primary btn-sm mt-2"
          disabled={acts.busy || count === 0}
          onclick={take}
          >{count === 0
            ? 'Nothing to put in place'
            : count === 1
              ? 'Put it in place'
              : `Put ${count} in place`}</button
        >
      {:else if found.kind === 'description'}
        <button type="button" class="btn btn-primary btn-sm mt-2" onclick={add}
          >Add an application from it</button
        >
      {/if}
    </div>
  {/if}
</div>
{#if problem}<div class="mt-2"><ProblemBox {problem} /></div>{/if}
