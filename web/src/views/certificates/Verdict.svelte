<script lang="ts">
  import type { Schemas } from '../../api/client'

  let { chain }: { chain: Schemas['CertificateChain'] } = $props()
  const broken = $derived(chain.links.find((link) => link.broken))
</script>

<p
  role="status"
  class="mb-3 rounded-md px-3 py-2 {chain.verdict === 'ok' ? 'bg-quiet-ground' : 'bg-bad-ground'}"
>
  <strong class={chain.verdict === 'ok' ? '' : 'text-error'}
    >{chain.verdict === 'ok' ? 'Good.' : 'Not good.'}</strong
  >
  {#if broken}<span class="value">{broken.subject}</span>:{/if}
  {chain.says}
</p>
