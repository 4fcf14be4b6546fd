<script lang="ts">
  import { untrack } from 'svelte'
  import { api, ok, type Client } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'

  let { client }: { client: Client } = $props()
  const acts = acting('client')
  let facts = $state<Record<string, string>>(untrack(() => ({ ...client.facts })))
  let account = $state(untrack(() => client.account))
  let kind = $state(untrack(() => client.account_kind))
  let rights = $state(untrack(() => [...client.rights]))
  let switches = $state(untrack(() => [...client.switches]))
  let shared = $state(untrack(() => client.vendor_shared))
  let networks = $state(untrack(() => client.allow_list.join(' ')))
  let saved = $state(false)
  const errors = $derived(acts.errors)

  async function save(event: Event): Promise<void> {
    event.preventDefault()
    saved = false
    const params = { path: { identity: client.id } }
    const body = {
      facts,
      account,
      account_kind: kind,
      rights,
      switches,
      allow_list: networks.split(/[\s,;]+/).filter(Boolean),
      vendor_shared: shared,
    }
    const noted = await acts.run(
      () => ok(api.POST('/api/clients/{identity}/facts', { params, body })),
      ['client', client.id],
    )
    saved = Boolean(noted)
  }
</script>

<form onsubmit={save} class="mt-3" aria-labelledby="notes-title">
  <h3 id="notes-title" class="text-brass mb-1 font-bold">What their screens show of us</h3>
  {#each client.wanted_facts as wantedFact (wantedFact.key)}
    <Field
      id="fact-{wantedFact.key}"
      label={wantedFact.label}
      help={wantedFact.help}
      where={wantedFact.where}
    >
      <input
        id="fact-{wantedFact.key}"
        class="line-in value"
        autocomplete="off"
        disabled={!may('change')}
        bind:value={facts[wantedFact.key]}
      />
    </Field>
  {/each}
  {#each client.wanted_switches as wantedSwitch (wantedSwitch)}
    <label class="mb-2 flex min-h-[26px] items-center gap-2"
      ><input
        type="checkbox"
        value={wantedSwitch}
        disabled={!may('change')}
        bind:group={switches}
      />
      “{wantedSwitch}” is on there</label
    >
  {/each}
  {#if client.parts.includes('account')}
    <div class="grid grid-cols-[1fr_11.5rem] gap-x-3">
      <Field id="account" label="Whose it is there" error={errors.account}>
        <input
          id="account"
          class="line-in value"
          autocomplete="off"
          disabled={!may('change')}
          bind:value={account}
        />
      </Field>
      <Field id="account-kind" label="That is" error={errors.account_kind}>
        <select id="account-kind" class="line-in" disabled={!may('change')} bind:value={kind}
          ><option value="">not said</option><option value="service">a service account</option
          ><option value="person">a person's</option></select
        >
      </Field>
    </div>
  {/if}
  {#if client.roles.length}
    <fieldset class="mb-2">
      <legend class="label-text">Its {client.roles_label} there</legend>
      {#each client.roles as role (role)}<label
          class="me-4 inline-flex min-h-[26px] items-center gap-2"
          ><input type="checkbox" value={role} disabled={!may('change')} bind:group={rights} />
          <span class="value">{role}</span></label
        >{/each}
      {#if errors.rights}<p role="alert" class="text-error font-semibold">{errors.rights}</p>{/if}
    </fieldset>
  {/if}
  <Field
    id="allow-list"
    label="Their allow-list of networks, if they keep one"
    error={errors.allow_list}
  >
    <input
      id="allow-list"
      class="line-in value"
      placeholder="203.0.113.40/29"
      disabled={!may('change')}
      bind:value={networks}
    />
  </Field>
  <label class="mb-2 flex min-h-[26px] items-center gap-2"
    ><input type="checkbox" disabled={!may('change')} bind:checked={shared} />
    <span>The vendor shares it with everybody, for trying things out</span></label
  >
  <ProblemBox problem={acts.problem} />
  {#if may('change')}<button class="btn btn-sm">Save</button>{/if}
  {#if saved}<span role="status" class="text-success ms-2">Saved.</span>{/if}
</form>
