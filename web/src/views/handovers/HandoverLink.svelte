<script lang="ts">
  import { api, ok, Problem, type Schemas } from '../../api/client'
  import CopyLine from '../../lib/CopyLine.svelte'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import When from '../../lib/When.svelte'

  let { id, leave }: { id: string; leave: () => void } = $props()
  let to = $state('')
  let made = $state<Schemas['LinkMade'] | null>(null)
  const acts = acting('credential')
  const errors = $derived(acts.problem instanceof Problem ? acts.problem.errors : {})

  const make = (event: Event) => {
    event.preventDefault()
    void acts.run(async () => {
      made = await ok(
        api.POST('/api/handovers/{identity}/links', {
          params: { path: { identity: id } },
          body: { to },
        }),
      )
    })
  }
</script>

{#if made}
  <p class="my-2">
    Both are shown this once. Send the link by one channel and the code by another, by telephone for
    instance.
  </p>
  <p class="label-text">Link</p>
  <CopyLine text={made.address} what="the link" />
  <p class="label-text mt-2">Code</p>
  <CopyLine text={`${made.code.slice(0, 4)} ${made.code.slice(4)}`} what="the code" />
  <p class="help mt-2">
    <When at={made.ends} prefix="It expires " />, serves once, and ends at the fifth wrong code.
  </p>
{:else}
  <form class="mt-2" onsubmit={make}>
    <Field
      id="link-to"
      label="Whom it is for"
      error={errors.to}
      help="The receipt, the journal and the link's page give it."
    >
      <input id="link-to" class="line-in" bind:value={to} required maxlength="200" />
    </Field>
    <button class="btn btn-primary btn-sm" disabled={acts.busy || !to.trim()}
      >Create link and code</button
    >
    <button type="button" class="btn btn-sm" onclick={leave}>Another way</button>
  </form>
{/if}
<ProblemBox problem={acts.problem} />
