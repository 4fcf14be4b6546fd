<script lang="ts">
  import { untrack } from 'svelte'
  import { api, ok, type Schemas } from '../../api/client'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import UriList from './UriList.svelte'

  /**
   * The redirect URIs of a client on their way to others: what that stops is worked out at each
   * edit, and said before it is made.
   */
  let {
    client,
    name,
    begin,
    label,
    busy,
    save,
    leave,
  }: {
    client: string
    name: string
    begin: string[]
    label: string
    busy: boolean
    save: (wanted: string[]) => void
    leave: () => void
  } = $props()
  let uris = $state(untrack(() => [...begin]))
  let effects = $state<Schemas['EffectOut'][] | null>(null)
  let problem = $state<unknown>(null)
  let confirming = $state('')

  let later = 0
  let asked = 0
  $effect(() => {
    const wanted = uris.filter(Boolean)
    const mine = ++asked
    clearTimeout(later)
    // What was answered before is about another list: nothing is known until the answer to this one
    // is here.
    effects = problem = null
    later = window.setTimeout(async () => {
      try {
        const found = await ok(
          api.POST('/api/clients/{identity}/redirect-uris/previews', {
            params: { path: { identity: client } },
            body: { redirect_uris: wanted },
          }),
        )
        if (mine === asked) effects = found
      } catch (error) {
        if (mine === asked) problem = error
      }
    }, 150)
    return () => clearTimeout(later)
  })
  const stops = $derived((effects ?? []).filter((effect) => effect.stops))
  const ready = $derived(effects !== null && (stops.length === 0 || confirming === name))
</script>

<UriList bind:uris titled={false} />
<div aria-live="polite" data-effects={effects === null ? 'asked' : 'known'}>
  {#if effects}
    {#if effects.length}
      <h3 class="font-bold">What this does</h3>
      {#each effects as effect (effect.ref)}
        <p class={effect.stops ? 'text-error font-semibold' : 'text-success font-semibold'}>
          {effect.stops ? '✗' : '✓'}
          {effect.says}{#if effect.workloads.length}<span class="text-base-content font-normal">
              Hit: {effect.workloads.join(', ')}.</span
            >{/if}
        </p>
      {/each}
    {:else}<p class="help">No connection is affected.</p>{/if}
  {:else if !problem}<p class="help">Working out what this does …</p>{/if}
</div>
<ProblemBox {problem} />
{#if stops.length}<label class="mt-2 block max-w-md"
    ><span class="label-text">Somebody stops by this. To go on, type the client's name: {name}</span
    ><input class="line-in" bind:value={confirming} /></label
  >{/if}
<div class="mt-3 flex gap-3">
  <button
    class="btn btn-primary btn-sm"
    disabled={busy || !ready}
    onclick={() => save(uris.filter(Boolean))}>{label}</button
  >
  <button class="btn btn-sm" onclick={leave}>Cancel</button>
</div>
