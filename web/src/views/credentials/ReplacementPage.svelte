<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, Problem } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import CertificateIn, { isGiven, nothing } from '../../lib/CertificateIn.svelte'
  import Field from '../../lib/Field.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import SubNav from '../../lib/SubNav.svelte'
  import When from '../../lib/When.svelte'
  import { capital, kindName } from '../../lib/words'
  import { param } from '../../router'
  import Handover from '../clients/Handover.svelte'

  const id = $derived(param('id'))
  const path = $derived({ params: { path: { identity: id } } })
  const acts = acting('credential')
  const found = createQuery(() => ({
    queryKey: ['replacement', id],
    queryFn: () => ok(api.GET('/api/replacements/{identity}', path)),
    refetchInterval: 5000,
  }))
  const item = $derived(found.data)
  const current = $derived(
    item?.outcome === 'open' ? item.steps.find((step) => step.state === 'now')?.key : '',
  )
  let given = $state(nothing())
  let name = $state('')
  let anyway = $state(false)
  const errors = $derived(acts.problem instanceof Problem ? acts.problem.errors : {})
  const MARKS: Record<string, string> = { done: '✓', now: '▸', waits: '·' }
  const OUTCOMES: Record<string, string> = {
    open: 'under way',
    done: 'done',
    back: 'rolled back',
    'given up': 'given up',
  }

  const make = (event?: Event) => {
    event?.preventDefault()
    void acts.run(async () => {
      await ok(
        api.POST('/api/replacements/{identity}/new-credentials', {
          ...path,
          body: { value: given.text, base64: given.base64, password: given.password, name },
        }),
      )
      given = nothing()
      name = ''
    })
  }
  const act = (what: 'proofs' | 'switches' | 'rollbacks' | 'refusal-proofs') =>
    acts.run(() => ok(api.POST(`/api/replacements/{identity}/${what}`, path)))
  const retire = () =>
    acts.run(() =>
      ok(api.POST('/api/replacements/{identity}/retirements', { ...path, body: { anyway } })),
    )
  const move = (name: string, moved: boolean) =>
    acts.run(() =>
      ok(
        api.POST('/api/replacements/{identity}/workload-changes', {
          ...path,
          body: { name, moved },
        }),
      ),
    )
</script>

<!-- In both steps, so that a tick made by mistake can be taken back after it was the last one
     missing. -->
{#snippet changedByHand(workloads: { name: string; draws: boolean; moved: boolean }[])}
  {#each workloads.filter((workload) => !workload.draws) as workload (workload.name)}
    <label class="flex min-h-[26px] items-center gap-2"
      ><input
        type="checkbox"
        checked={workload.moved}
        disabled={acts.busy}
        onchange={(event) => move(workload.name, event.currentTarget.checked)}
      />
      {workload.name} has been changed manually</label
    >
  {/each}
{/snippet}

{#snippet retiring()}
  <p class="my-2">
    {item?.way === 'house'
      ? 'The house authority revokes it.'
      : `Withdraw it in ${item?.application}'s own screens first. This cannot be rolled back.`}
  </p>
  <button class="btn btn-error btn-sm" disabled={acts.busy} onclick={retire}
    >{item?.way === 'house' ? 'Revoke the old one' : 'It is withdrawn there'}</button
  >
{/snippet}
{#snippet takeIn()}
  <form onsubmit={make} class="max-w-xl">
    {#if item?.kind === 'private_key'}
      <CertificateIn
        id="new-value"
        label="Certificate, chain and private key (PEM)"
        bind:given
        error={errors.value}
        passwordError={errors.password}
      />
    {:else}
      {#if item?.named}<Field
          id="new-name"
          label="{item.named} of the new one"
          error={errors.name}
          help="Empty: as before."
        >
          <input id="new-name" class="line-in value" autocomplete="off" bind:value={name} />
        </Field>{/if}
      <Field
        id="new-value"
        label="The new value"
        error={errors.value}
        help="Spaces and quotes around it are taken off; it is sealed as it arrives."
      >
        <input
          id="new-value"
          type="password"
          class="line-in value"
          autocomplete="off"
          bind:value={given.text}
        />
      </Field>
    {/if}
    <button class="btn btn-primary btn-sm" disabled={acts.busy || !isGiven(given)}
      >Store value</button
    >
  </form>
{/snippet}

<svelte:head><title>Replacing {item?.old_hint ?? ''} · Neat Latch</title></svelte:head>
<SubNav group="credentials" />
<Loading query={found} />
{#if item}
  <header class="mb-3 flex flex-wrap items-baseline gap-x-4">
    <h1>
      Replacing <span class="value">{item.old_hint}</span>{#if item.new_hint}&nbsp;by <span
          class="value">{item.new_hint}</span
        >{/if}
    </h1>
    <span
      class="font-semibold {item.outcome === 'done'
        ? 'text-success'
        : item.outcome === 'open'
          ? 'text-warning'
          : 'text-soft'}">{OUTCOMES[item.outcome]}</span
    >
    <span>{capital(kindName(item.kind, item.way === 'house'))} of {item.application}</span>
    {#if item.may_roll_back && may('change')}<button
        class="btn btn-sm ms-auto"
        disabled={acts.busy}
        onclick={() => act('rollbacks')}>{item.new ? 'Roll it back' : 'Cancel replacement'}</button
      >{/if}
  </header>
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_340px] items-start gap-4">
    <ol class="sheet p-4" aria-label="Steps">
      {#each item.steps as step (step.key)}
        {@const now = step.key === current}
        <li
          class="border-base-300 border-b py-3 last:border-0 {step.state === 'waits'
            ? 'text-soft'
            : ''}"
          aria-current={now ? 'step' : undefined}
        >
          <p class={now ? 'font-bold' : ''}>
            <span aria-hidden="true" class={step.state === 'done' ? 'text-success' : ''}
              >{MARKS[step.state]}</span
            >
            {step.title}
            {#if step.done_at && step.state === 'done'}<span class="help font-normal"
                ><When at={step.done_at} /></span
              >{/if}
          </p>
          {#if now && may('change')}
            <div class="mt-2 ps-4">
              {#if step.key === 'make' && item.costs.length}
                <div
                  class="{item.overlaps
                    ? 'bg-quiet-ground'
                    : 'bg-wait-ground'} mb-2 max-w-2xl rounded-md px-3 py-2"
                >
                  {#each item.costs as said (said)}<p>{said}</p>{/each}
                </div>
              {/if}
              {#if step.key === 'make' && item.way === 'hand'}
                <ol class="mb-2 list-decimal ps-5">
                  {#each item.acts as said (said)}<li>{said}</li>{/each}
                </ol>
                {@render takeIn()}
              {:else if step.key === 'make'}
                <button class="btn btn-primary btn-sm" disabled={acts.busy} onclick={() => make()}
                  >{item.way === 'house'
                    ? 'Make a new secret'
                    : 'Ask the application for a new secret'}</button
                >
              {:else if step.key === 'prove'}
                <button
                  class="btn btn-primary btn-sm"
                  disabled={acts.busy}
                  onclick={() => act('proofs')}
                  >{acts.busy ? 'Trying it …' : 'Try it at the application'}</button
                >
                {#if item.may_correct}<details class="mt-3">
                    <summary class="act">Take in another value in its place</summary>
                    <div class="mt-2">{@render takeIn()}</div>
                  </details>{/if}
              {:else if step.key === 'switch'}
                <p class="mb-2">
                  Will hold the new one: {item.connections.join(', ') || 'no connection'}. Workloads
                  that draw get it with their next draw.
                </p>
                <button
                  class="btn btn-primary btn-sm"
                  disabled={acts.busy}
                  onclick={() => act('switches')}>Switch over</button
                >
              {:else if step.key === 'watch'}
                <p class="mb-1">{step.says}</p>
                {@render changedByHand(item.workloads)}
                {#if item.tokens_alive}<p class="help">
                    {item.tokens_alive} tokens that were got with it live still.
                  </p>{/if}
                <label class="mt-1 flex min-h-[26px] items-center gap-2"
                  ><input type="checkbox" bind:checked={anyway} /> Retire it all the same</label
                >
                {#if anyway}
                  {@render retiring()}
                {/if}
              {:else if step.key === 'retire'}
                {@render changedByHand(item.workloads)}
                <p class="mb-2">
                  {item.steps.find((each) => each.key === 'watch')?.says}
                </p>
                {@render retiring()}
              {:else if step.key === 'refuse'}
                <p class="mb-2">The old one is tried once more, and must be refused.</p>
                <button
                  class="btn btn-primary btn-sm"
                  disabled={acts.busy}
                  onclick={() => act('refusal-proofs')}>Try the old one</button
                >
              {/if}
            </div>
          {/if}
        </li>
      {/each}
    </ol>
    <div class="flex flex-col gap-4">
      {#if item.said}<p role="status" class="bg-quiet-ground rounded-md px-3 py-2">
          {item.said}
        </p>{/if}
      {#if !Object.keys(errors).length}<ProblemBox problem={acts.problem} />{/if}
      {#if may('change')}<Handover
          id={item.handover}
          house
          done={() => void found.refetch()}
        />{/if}
      <section class="sheet p-4">
        <h2 class="mb-1">What it is about</h2>
        <p><a class="act value" href="/credentials/{item.old}">{item.old_hint}</a>, the old one</p>
        {#if item.new}<p>
            <a class="act value" href="/credentials/{item.new}">{item.new_hint}</a>, the new one
          </p>{/if}
        {#each item.connections as ref (ref)}<p>
            <a class="act value" href="/connections/{ref}">{ref}</a>
          </p>{/each}
        {#each item.workloads as workload (workload.name)}<p>
            {workload.name}
            <span class="text-soft"
              >{workload.draws
                ? 'draws, and moves by itself'
                : workload.moved
                  ? 'was moved manually'
                  : 'is moved manually'}</span
            >
          </p>{/each}
        <p class="help">
          Begun <When at={item.begun} /> by {item.begun_by}. {item.overlaps
            ? 'Both live side by side.'
            : 'Only one is valid at a time.'}
        </p>
      </section>
    </div>
  </div>
{/if}
