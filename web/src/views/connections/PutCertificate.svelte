<script lang="ts">
  import { api, ok, type Connection } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import CertificateIn, { isGiven, nothing } from '../../lib/CertificateIn.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'

  let {
    connection,
    done,
  }: { connection: Connection; done: (notes: Record<string, string[]>) => void } = $props()
  const acts = acting('connection')
  let given = $state(nothing())
  const errors = $derived(acts.errors)

  async function save(event: Event): Promise<void> {
    event.preventDefault()
    const params = { path: { ref: connection.ref } }
    const body = { pem: given.text, base64: given.base64, password: given.password }
    const saved = await acts.run(
      () => ok(api.POST('/api/connections/{ref}/certificates', { params, body })),
      ['connection', connection.ref],
    )
    if (!saved) return
    given = nothing()
    done(saved.notes ?? {})
  }
</script>

<form class="sheet mb-4 p-4" onsubmit={save} aria-labelledby="certificate-title">
  <h2 id="certificate-title" class="mb-2">Put in a certificate</h2>
  <div class="max-w-2xl">
    <CertificateIn
      id="pem"
      label="Certificate, its chain and its private key, in PEM"
      help="The key is sealed as it arrives. If it is here already, the certificate is enough."
      bind:given
      error={errors.certificate ?? errors.private_key}
      passwordError={errors.password}
    />
  </div>
  <ProblemBox problem={acts.problem} />
  <div class="flex gap-3">
    <button class="btn btn-primary btn-sm" disabled={!isGiven(given)}>Store certificate</button>
    <button type="button" class="btn btn-sm" onclick={() => done({})}>Cancel</button>
  </div>
</form>
