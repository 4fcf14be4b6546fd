<script lang="ts">
  import { api, ok, type Connection } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { onDay } from '../../lib/time'
  import { lower } from '../../lib/words'

  let {
    connection,
    which = '',
    done,
  }: {
    connection: Connection
    which?: string
    done: (notes: Record<string, string[]>) => void
  } = $props()
  const acts = acting('connection')
  let secret = $state('')
  let ends = $state('')
  const wanted = $derived(
    connection.secrets.find((secret) => (which ? secret.key === which : true)),
  )
  const errors = $derived(acts.errors)

  async function save(event: Event): Promise<void> {
    event.preventDefault()
    const params = { path: { ref: connection.ref } }
    const body = { secret, key: wanted?.key ?? '', ends: ends ? onDay(ends) : null }
    const saved = await acts.run(
      () => ok(api.POST('/api/connections/{ref}/secrets', { params, body })),
      ['connection', connection.ref],
    )
    if (!saved) return
    secret = ''
    done(saved.notes ?? {})
  }
</script>

<form class="sheet mb-4 p-4" onsubmit={save} aria-labelledby="secret-title">
  <h2 id="secret-title" class="mb-2">Put in a new {lower(wanted?.label ?? 'secret')}</h2>
  <div class="grid grid-cols-2 gap-x-5">
    <Field
      id="new-secret"
      label={wanted?.label ?? 'Secret'}
      help="Sealed as it arrives. Spaces, line breaks and quotes at its ends are removed."
      where={wanted?.where}
      error={errors.secret ?? errors[wanted?.key ?? '']}
    >
      <input
        id="new-secret"
        type="password"
        class="line-in value"
        autocomplete="off"
        bind:value={secret}
        {@attach (input: HTMLInputElement) => input.focus()}
      />
    </Field>
    <Field id="new-ends" label="Expiry date, if known"
      ><input id="new-ends" type="date" class="line-in" bind:value={ends} /></Field
    >
  </div>
  <ProblemBox problem={acts.problem} />
  <div class="flex gap-3">
    <button class="btn btn-primary btn-sm" disabled={!secret}>Store secret</button>
    <button type="button" class="btn btn-sm" onclick={() => done({})}>Cancel</button>
  </div>
</form>
