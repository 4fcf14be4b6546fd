<script lang="ts">
  /** What is kept of something that was decommissioned. */
  import When from '../../lib/When.svelte'
  import { grouped } from '../../lib/words'
  import { capital } from '../../lib/words'

  interface Kept {
    fields?: Record<string, unknown>
    usages?: { kind: string; name: string }[]
    tests?: { ended: string; passed: boolean | null; by: string; says: string }[]
    credentials?: { kind: string; hint: string; issued: string; state: string }[]
    draws?: number
    last_draw?: string
  }
  let { history }: { history: Record<string, unknown> } = $props()
  const kept = $derived(history as Kept)
  const isSaid = (value: unknown): boolean =>
    value !== '' &&
    value !== null &&
    value !== false &&
    value !== 0 &&
    !(typeof value === 'object' && Object.keys(value as object).length === 0)
  const fields = $derived(Object.entries(kept.fields ?? {}).filter(([, value]) => isSaid(value)))
  const text = (value: unknown): string =>
    typeof value === 'boolean'
      ? value
        ? 'yes'
        : 'no'
      : Array.isArray(value) && value.every((part) => typeof part === 'string')
        ? value.join(', ')
        : typeof value === 'object'
          ? lines(value as Record<string, unknown>)
          : String(value)
  const lines = (table: Record<string, unknown>): string =>
    Object.values(table).every((part) => typeof part !== 'object')
      ? Object.entries(table)
          .map(([name, part]) => `${name}: ${String(part)}`)
          .join('\n')
      : JSON.stringify(table, null, 1)
</script>

<section class="sheet mt-4 max-w-4xl p-4" aria-labelledby="history">
  <h2 id="history" class="mb-2">What it was</h2>
  <dl class="grid grid-cols-1 gap-x-4 gap-y-1 sm:grid-cols-[12rem_minmax(0,1fr)]">
    {#each fields as [name, value] (name)}
      <dt class="text-soft">{capital(name.replaceAll('_', ' '))}</dt>
      <dd class="value break-words whitespace-pre-wrap">{text(value)}</dd>
    {/each}
    {#if kept.usages?.length}
      <dt class="text-soft">Used by</dt>
      <dd>{kept.usages.map((usage) => usage.name).join(', ')}</dd>
    {/if}
    {#if kept.draws}
      <dt class="text-soft">Draws</dt>
      <dd>
        {grouped(kept.draws)}, the last <When at={kept.last_draw ?? null} past />
      </dd>
    {/if}
    {#each kept.credentials ?? [] as credential (credential.hint + credential.issued)}
      <dt class="text-soft">{capital(credential.kind.replaceAll('_', ' '))}</dt>
      <dd>
        <span class="value">{credential.hint}</span>
        {credential.state}, issued <When at={credential.issued} past />
      </dd>
    {/each}
  </dl>
  {#if kept.tests?.length}
    <table class="rows mt-3">
      <caption class="help text-start">Last tests</caption>
      <thead><tr><th>When</th><th>By</th><th>Comes to</th></tr></thead>
      <tbody>
        {#each kept.tests as test, at (at)}<tr
            ><td><When at={test.ended || null} past /></td><td>{test.by}</td><td
              >{test.passed ? 'passed' : test.says || 'failed'}</td
            ></tr
          >{/each}
      </tbody>
    </table>
  {/if}
</section>
