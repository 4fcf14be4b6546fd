<script lang="ts">
  import { useQueryClient } from '@tanstack/svelte-query'
  import { api, ok, Problem, type Connection } from '../../api/client'
  import CertificateIn, { isGiven, nothing } from '../../lib/CertificateIn.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'

  let { connection, done }: { connection: Connection; done: (notes: Record<string, string[]>) => void } = $props()
  const queries = useQueryClient()
  let given = $state(nothing())
  let problem = $state<unknown>(null)
  const errors = $derived(problem instanceof Problem ? problem.errors : {})

  async function save(event: Event): Promise<void> {
    event.preventDefault()
    problem = null
    try {
      const body = { pem: given.text, base64: given.base64, password: given.password }
      const saved = await ok(api.POST('/api/connections/{ref}/certificates', { params: { path: { ref: connection.ref } }, body }))
      given = nothing()
      await queries.invalidateQueries()
      done(saved.notes ?? {})
    } catch (error) {
      problem = error
    }
  }
</script>

<form class="sheet mb-4 p-4" onsubmit={save} aria-labelledby="certificate-title">
  <h2 id="certificate-title" class="mb-2">Put in a certificate</h2>
  <div class="max-w-2xl">
    <CertificateIn
      id="pem"
      label="Certificate, its chain and its private key, in PEM"
      help="The key is sealed as it arrives. The certificate alone will do where the key is here already."
      bind:given
      error={errors.certificate ?? errors.private_key}
      passwordError={errors.password}
    />
  </div>
  <ProblemBox {problem} />
  <div class="flex gap-3">
    <button class="btn btn-primary btn-sm" disabled={!isGiven(given)}>Put it in</button>
    <button type="button" class="btn btn-sm" onclick={() => done({})}>Leave it</button>
  </div>
</form>
