<script lang="ts">
  import { api, ok, Problem } from '../../api/client'
  import Field from '../../lib/Field.svelte'
  import { download } from '../../lib/files'
  import ProblemBox from '../../lib/ProblemBox.svelte'

  let { id, leave, done }: { id: string; leave: () => void; done: () => void } = $props()
  let form = $state({ to: '', key: '' })
  let problem = $state<unknown>(null)
  const errors = $derived(problem instanceof Problem ? problem.errors : {})

  async function make(event: Event): Promise<void> {
    event.preventDefault()
    problem = null
    try {
      const made = await ok(api.POST('/api/handovers/{identity}/files', { params: { path: { identity: id } }, body: form }))
      download(made.name, made.content)
      done()
    } catch (error) {
      problem = error
    }
  }
</script>

<form class="mt-2" onsubmit={make}>
  <Field id="file-to" label="Whose key it is" error={errors.to}>
    <input id="file-to" class="line-in" bind:value={form.to} required maxlength="200" />
  </Field>
  <Field
    id="file-key"
    label="Their public key"
    error={errors.key}
    help="PEM, a certificate, or a JWK; RSA of 2048 bits and more, or a NIST curve. Only whoever has the private key can read the file (JWE, RFC 7516)."
  >
    <textarea id="file-key" class="line-in value h-28" bind:value={form.key} required></textarea>
  </Field>
  <button class="btn btn-primary btn-sm" disabled={!form.to.trim() || !form.key.trim()}>Make the file</button>
  <button type="button" class="btn btn-sm" onclick={leave}>Another way</button>
</form>
<ProblemBox {problem} />
