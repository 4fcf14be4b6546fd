<script lang="ts">
  import { useQueryClient } from '@tanstack/svelte-query'
  import { api, ok, Problem, type Connection } from '../../api/client'
  import Field from '../../lib/Field.svelte'
  import { inBase64 } from '../../lib/files'
  import ProblemBox from '../../lib/ProblemBox.svelte'

  let { connection, done }: { connection: Connection; done: (notes: Record<string, string[]>) => void } = $props()
  const queries = useQueryClient()
  let pem = $state('')
  let file = $state<File | null>(null)
  let password = $state('')
  let problem = $state<unknown>(null)
  const errors = $derived(problem instanceof Problem ? problem.errors : {})

  async function save(event: Event): Promise<void> {
    event.preventDefault()
    problem = null
    try {
      const body = { pem: file ? '' : pem, base64: file ? await inBase64(file) : '', password }
      const saved = await ok(api.POST('/api/connections/{ref}/certificates', { params: { path: { ref: connection.ref } }, body }))
      pem = password = ''
      file = null
      await queries.invalidateQueries()
      done(saved.notes ?? {})
    } catch (error) {
      problem = error
    }
  }
</script>

<form class="sheet mb-4 p-4" onsubmit={save} aria-labelledby="certificate-title">
  <h2 id="certificate-title" class="mb-2">Put in a certificate</h2>
  <div class="grid grid-cols-2 gap-x-5">
    <Field
      id="pem"
      label="Certificate, its chain and its private key, in PEM"
      help="The key is sealed as it arrives. The certificate alone will do where the key is here already."
      error={errors.certificate ?? errors.private_key}
    >
      <textarea id="pem" rows="7" class="line-in value" spellcheck="false" bind:value={pem}></textarea>
    </Field>
    <div>
      <Field id="file" label="Or a file: PEM, DER, PKCS#7 or PKCS#12"
        ><input
          id="file"
          type="file"
          class="line-in"
          onchange={(event) => (file = event.currentTarget.files?.[0] ?? null)}
        /></Field
      >
      <Field id="password" label="Its password, if it has one" error={errors.password}
        ><input id="password" type="password" autocomplete="off" class="line-in value" bind:value={password} /></Field
      >
    </div>
  </div>
  <ProblemBox {problem} />
  <div class="flex gap-3">
    <button class="btn btn-primary btn-sm" disabled={!pem && !file}>Put it in</button>
    <button type="button" class="btn btn-sm" onclick={() => done({})}>Leave it</button>
  </div>
</form>
