<script lang="ts">
  import type { Schemas } from '../../api/client'
  import Marked from '../../lib/Marked.svelte'
  import { capital } from '../../lib/words'

  let { answer, uri }: { answer: Omit<Schemas['TrialOut'], 'lint'>; uri: string } = $props()
  const sentence = $derived(capital(answer.reason) + (answer.reason.endsWith('.') ? '' : '.'))
</script>

<!-- A provider's answer to a redirect URI: taken or not, why, and what differs, character by
     character. -->
<p class={answer.match ? 'text-success font-semibold' : 'text-error font-semibold'}>
  {answer.match ? '✓ It is taken' : '✗ It is refused'}
  <span class="text-base-content font-normal"> — {sentence}</span>
</p>
{#if !answer.match && answer.nearest && answer.caller_marked.length}
  <dl class="mt-1 grid grid-cols-[9rem_1fr] gap-x-3">
    <dt class="text-brass">nearest registered</dt>
    <dd class="value"><Marked pieces={answer.provider_marked} text={answer.nearest} /></dd>
    <dt class="text-slate">sent</dt>
    <dd class="value"><Marked pieces={answer.caller_marked} text={uri} /></dd>
  </dl>
{/if}
{#each answer.differences.slice(1) as difference (difference.piece)}<p class="help">
    {capital(difference.piece)}: {difference.says}
  </p>{/each}
{#each answer.warnings as warning (warning)}<p class="text-warning font-semibold">
    {warning}
  </p>{/each}
