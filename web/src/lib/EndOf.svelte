<script lang="ts">
  import { api, ok } from '../api/client'
  import { acting } from './acting.svelte'
  import ProblemBox from './ProblemBox.svelte'
  import { may } from './session.svelte'
  import { dayOf, onDay } from './time'

  /** Says when a secret ends, where people have to; beside wherever its end is shown. */
  let { id, ends, hint }: { id: string; ends: string | null; hint: string } = $props()
  const acts = acting('credential')
  let open = $state(false)
  let day = $state('')

  const set = (moment: string | null) =>
    acts
      .run(() =>
        ok(
          api.PUT('/api/credentials/{identity}/end', {
            params: { path: { identity: id } },
            body: { ends: moment },
          }),
        ),
      )
      .then(() => {
        if (!acts.problem) open = false
      })
</script>

{#if may('change')}
  {#if !open}<button
      class="act"
      aria-label="{ends ? 'Change' : 'Add'} expiry of {hint}"
      onclick={() => ((open = true), (day = ends ? dayOf(ends) : ''))}
      >{ends ? 'change expiry' : 'add expiry'}</button
    >
  {:else}
    <form
      class="mt-1 flex flex-wrap items-end gap-2"
      onsubmit={(event) => (event.preventDefault(), void set(onDay(day)))}
    >
      <label
        ><span class="label-text">Expiry date</span><input
          type="date"
          class="line-in"
          bind:value={day}
        /></label
      >
      <button class="btn btn-sm" disabled={!day || acts.busy}>Save</button>
      {#if ends}<button
          type="button"
          class="btn btn-sm"
          disabled={acts.busy}
          onclick={() => set(null)}>No end is known</button
        >{/if}
      <button type="button" class="btn btn-sm" onclick={() => (open = false)}>Cancel</button>
    </form>
    <ProblemBox problem={acts.problem} />
  {/if}
{/if}
