<script lang="ts">
  import { api, ok, Problem } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import { download } from '../../lib/files'
  import ProblemBox from '../../lib/ProblemBox.svelte'

  let { id, leave, done }: { id: string; leave: () => void; done: () => void } = $props()
  let form = $state({ to: '', key: '' })
  const acts = acting('credential')
  const errors = $derived(acts.problem instanceof Problem ? acts.problem.errors : {})

  const make = (event: Event) => {
    event.preventDefault()
    void acts.run(async () => {
      const made = await ok(
        api.POST('/api/handovers/{identity}/files', {
          params: { path: { identity: id } },
          body: form,
        }),
      )
      download(made.name, made.content)
      done()
    })
  }
  const HELP =
    'PEM, a certificate, or a JWK; RSA of 2048 bits and more, or a NIST curve. Only the holder ' +
    'of the private key can read the file (JWE, RFC 7516).'
</script>

<form class="mt-2" onsubmit={make}>
  <Field id="file-to" label="Whose key it is" error={errors.to}>
    <input id="file-to" class="line-in" bind:value={form.to} required maxlength="200" />
  </Field>
  <Field id="file-key" label="Their public key" error={errors.key} help={HELP}>
    <textarea id="file-key" class="line-in value h-28" bind:value={form.key} required></textarea>
  </Field>
  <button class="btn btn-primary btn-sm" disabled={acts.busy || !form.to.trim() || !form.key.trim()}
    >Create file</button
  >
  <button type="button" class="btn btn-sm" onclick={leave}>Another way</button>
</form>
<ProblemBox problem={acts.problem} />
