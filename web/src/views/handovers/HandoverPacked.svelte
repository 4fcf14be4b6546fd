<script lang="ts">
  import { api, ok, Problem } from '../../api/client'
  import Copy from '../../lib/Copy.svelte'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import { downloadBase64 } from '../../lib/files'
  import ProblemBox from '../../lib/ProblemBox.svelte'

  let { id, leave, done }: { id: string; leave: () => void; done: () => void } = $props()
  let to = $state('')
  let password = $state('')
  const acts = acting('credential')
  const errors = $derived(acts.problem instanceof Problem ? acts.problem.errors : {})

  const make = (event: Event) => {
    event.preventDefault()
    void acts.run(async () => {
      const made = await ok(
        api.POST('/api/handovers/{identity}/pkcs12-files', {
          params: { path: { identity: id } },
          body: { to },
        }),
      )
      downloadBase64(made.name, made.base64)
      password = made.password
    })
  }
</script>

{#if password}
  <p class="mt-2">
    The file was downloaded. Its password is shown this once; send it by another channel than the
    file.
  </p>
  <p class="bg-base-200 value my-2 rounded-md px-3 py-2" data-secret>{password}</p>
  <Copy text={password} what="the password" />
  <button type="button" class="btn btn-primary btn-sm" onclick={() => ((password = ''), done())}
    >I have both</button
  >
{:else}
  <form class="mt-2" onsubmit={make}>
    <Field id="packed-to" label="Whom it is for" error={errors.to}>
      <input id="packed-to" class="line-in" bind:value={to} required maxlength="200" />
    </Field>
    <button class="btn btn-primary btn-sm" disabled={acts.busy || !to.trim()}>Create file</button>
    <button type="button" class="btn btn-sm" onclick={leave}>Another way</button>
  </form>
{/if}
<ProblemBox problem={acts.problem} />
