<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ifMatch, ok, once, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Field from '../../lib/Field.svelte'
  import OwnerField from '../../lib/OwnerField.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'

  let {
    workload = null,
    done,
  }: {
    workload?: Schemas['WorkloadOut'] | null
    done: (saved: Schemas['WorkloadOut'] | null) => void
  } = $props()
  const environments = createQuery(() => ({
    queryKey: ['environments'],
    queryFn: () => ok(api.GET('/api/environments')),
  }))
  const KINDS = ['job', 'report', 'script', 'agent']
  // svelte-ignore state_referenced_locally
  let form = $state({
    name: workload?.name ?? '',
    environment: workload?.environment.key ?? 'production',
    kind: workload?.kind ?? 'job',
    owner: workload?.owner ?? '',
    runs: workload?.runs ?? '',
    notice_days: workload?.notice_days ?? 0,
    draws: workload?.draws ?? false,
  })
  // svelte-ignore state_referenced_locally
  let windows = $state((workload?.windows ?? []).join('\n'))
  const acts = acting('workload')
  const errors = $derived(acts.errors)
  const sent = once()

  async function save(event: Event): Promise<void> {
    event.preventDefault()
    const body = {
      ...form,
      notice_days: Number(form.notice_days) || 0,
      windows: windows.split('\n').filter((part) => part.trim()),
    }
    const known = workload
    const saved = known
      ? await acts.run(
          () =>
            ok(
              api.PATCH('/api/workloads/{identity}', {
                params: { path: { identity: known.id } },
                // Named again, an owner whose name another bears too might be taken for that one.
                body: { ...body, owner: body.owner === known.owner ? null : body.owner },
                headers: ifMatch(known.version),
              }),
            ),
          ['workload', known.id],
        )
      : await acts.run(() => ok(api.POST('/api/workloads', { body, headers: sent.headers(body) })))
    if (saved) done(saved)
  }
</script>

<form class="sheet mb-4 grid max-w-4xl grid-cols-2 gap-x-5 p-4" onsubmit={save}>
  <Field id="u-name" label="Name" error={errors.name}
    ><input
      id="u-name"
      class="line-in"
      placeholder="Night manifest run"
      bind:value={form.name}
    /></Field
  >
  <Field id="u-environment" label="Environment it runs in" error={errors.environment}
    ><select id="u-environment" class="line-in" bind:value={form.environment}
      >{#each environments.data ?? [] as environment (environment.key)}<option
          value={environment.key}>{environment.name}</option
        >{/each}</select
    ></Field
  >
  <Field id="u-kind" label="Kind" error={errors.kind}
    ><select id="u-kind" class="line-in" bind:value={form.kind}
      >{#each KINDS as kind (kind)}<option>{kind}</option>{/each}</select
    ></Field
  >
  <Field
    id="u-owner"
    label="Owner"
    error={errors.owner}
    help="Whom to ask before its connection changes."
    ><OwnerField id="u-owner" bind:value={form.owner} /></Field
  >
  <Field id="u-runs" label="When it runs" error={errors.runs}
    ><input id="u-runs" class="line-in" placeholder="02:10 daily" bind:value={form.runs} /></Field
  >
  <Field
    id="u-notice"
    label="Days of notice"
    error={errors.notice_days}
    help="How long before a change its owner must be notified."
    ><input
      id="u-notice"
      class="line-in"
      type="number"
      min="0"
      max="365"
      bind:value={form.notice_days}
    /></Field
  >
  <Field
    id="u-windows"
    label="Change windows"
    error={errors.windows}
    help="One a line: Mon-Fri 20:00-23:00, or daily 02:00-04:00. None: at any time."
    ><textarea id="u-windows" class="line-in value" rows="2" bind:value={windows}></textarea></Field
  >
  <div>
    <label class="flex min-h-[26px] items-center gap-2 pt-6"
      ><input type="checkbox" bind:checked={form.draws} />
      <span>It draws by reference name; no one changes it manually</span></label
    >
  </div>
  <div class="col-span-2">
    <ProblemBox problem={acts.problem} />
    <div class="mt-2 flex gap-3">
      <button class="btn btn-primary btn-sm">{workload ? 'Save' : 'Add workload'}</button>
      <button type="button" class="btn btn-sm" onclick={() => done(null)}>Cancel</button>
    </div>
  </div>
</form>
