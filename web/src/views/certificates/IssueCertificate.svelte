<script lang="ts">
  import { Problem } from '../../api/client'
  import Field from '../../lib/Field.svelte'
  import SigningRequest from '../../lib/SigningRequest.svelte'

  export interface Wanted {
    common_name: string
    names: string[]
    days: number
    request: string
    key_kind: string
  }
  let {
    profile,
    problem,
    busy,
    issue,
    leave,
  }: {
    profile: 'client' | 'server'
    problem: unknown
    busy: boolean
    issue: (wanted: Wanted) => void
    leave: () => void
  } = $props()
  let by = $state<'house' | 'request'>('house')
  let form = $state({ common_name: '', names: '', days: '', request: '', key_kind: 'EC' })
  const errors = $derived(problem instanceof Problem ? problem.errors : {})
  const submit = (event: Event) => {
    event.preventDefault()
    issue({
      ...form,
      names: form.names.split(/[\s,]+/).filter(Boolean),
      days: Number(form.days) || 0,
      request: by === 'request' ? form.request : '',
    })
  }
</script>

<form onsubmit={submit}>
  <fieldset class="mb-3">
    <legend class="label-text">Its key</legend>
    <label class="flex min-h-[26px] items-center gap-2"
      ><input type="radio" value="house" bind:group={by} /> is made here and handed over once</label
    >
    <label class="flex min-h-[26px] items-center gap-2"
      ><input type="radio" value="request" bind:group={by} />
      <span>stays with its holder, who sends a signing request</span></label
    >
  </fieldset>
  {#if by === 'request'}
    <SigningRequest
      id="request"
      bind:value={form.request}
      error={errors.request}
      help="RFC 2986. Its names are taken from it, unless others are given below."
      required
    />
  {:else}
    <Field id="key-kind" label="Kind of key" error={errors.key_kind}>
      <select id="key-kind" class="line-in" bind:value={form.key_kind}>
        <option value="EC">Elliptic curve, P-256</option><option value="RSA"
          >RSA 3072, for older programs</option
        >
      </select>
    </Field>
  {/if}
  <Field
    id="common-name"
    label="Name in it"
    error={errors.common_name}
    help={by === 'request' ? 'Empty: as the request says.' : 'Empty: the name of its client.'}
  >
    <input id="common-name" class="line-in" bind:value={form.common_name} maxlength="64" />
  </Field>
  {#if profile === 'server'}<Field
      id="names"
      label="Names it is called by"
      error={errors.names}
      help="DNS names and IP addresses; callers compare these and never the name above (RFC 9525)."
    >
      <input
        id="names"
        class="line-in value"
        placeholder="crew.gannet.example"
        bind:value={form.names}
      />
    </Field>{/if}
  <Field
    id="days"
    label="Good for days"
    error={errors.days}
    help="Empty: {profile === 'server'
      ? '90, at most 200'
      : '180, at most 366'}. Never beyond its issuer's own end."
  >
    <input id="days" class="line-in max-w-40" inputmode="numeric" bind:value={form.days} />
  </Field>
  <button class="btn btn-primary btn-sm" disabled={busy}>Issue certificate</button>
  <button type="button" class="btn btn-sm" onclick={leave}>Cancel</button>
</form>
