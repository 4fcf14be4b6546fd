<script lang="ts">
  import type { Schemas } from '../../api/client'
  import CopyLine from '../../lib/CopyLine.svelte'
  import When from '../../lib/When.svelte'
  import { day } from '../../lib/time'

  let { link }: { link: Schemas['ChainLinkOut'] } = $props()
  const FOR: Record<string, string> = { server: 'servers', client: 'clients', any: 'anything' }
</script>

<dl class="grid grid-cols-[8rem_minmax(0,1fr)] gap-x-2 gap-y-1">
  <dt class="text-soft">Subject</dt>
  <dd class="value">{link.subject}</dd>
  {#if link.names.length}<dt class="text-soft">Names</dt>
    <dd class="value break-all">{link.names.join(', ')}</dd>{/if}
  <dt class="text-soft">Issued by</dt>
  <dd class="value">{link.issuer}</dd>
  <dt class="text-soft">Good</dt>
  <dd>
    {day(link.not_before)} to {day(link.not_after)}, <When at={link.not_after} prefix="expires " />
  </dd>
  <dt class="text-soft">For</dt>
  <dd>
    {link.purposes === null
      ? 'anything: it does not say'
      : link.purposes.map((purpose) => FOR[purpose] ?? purpose).join(', ')}
  </dd>
  <dt class="text-soft">Key</dt>
  <dd>{link.key}, signed with {link.signature}</dd>
  <dt class="text-soft">Serial</dt>
  <dd class="value break-all">{link.serial}</dd>
</dl>
<p class="label-text mt-2">SHA-256 thumbprint</p>
<CopyLine text={link.sha256} what="the SHA-256 thumbprint" />
<p class="label-text mt-2">x5t#S256 (RFC 8705)</p>
<CopyLine text={link.x5t_s256} what="x5t#S256" />
<p class="label-text mt-2">SHA-1 thumbprint, where an old program asks for it</p>
<CopyLine text={link.sha1} what="the SHA-1 thumbprint" />
