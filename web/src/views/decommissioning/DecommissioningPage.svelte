<script lang="ts">
  /** One object on its way out, step by step; afterwards, what is kept of it. */
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { capital } from '../../lib/words'
  import { param } from '../../router'
  import History from './History.svelte'
  import { HOW, KINDS } from './kinds'

  const identity = $derived(param('id'))
  const acts = acting('everything')
  const path = $derived({ params: { path: { identity } } })
  const own = $derived(['decommissioning', identity])
  const found = createQuery(() => ({
    queryKey: ['decommissioning', identity],
    queryFn: () => ok(api.GET('/api/decommissionings/{identity}', path)),
  }))
  let reason = $state('')
  let confirming = $state('')
  let also = $state(false)
  const STEPS = [
    ['uses', 'Who still uses it'],
    ['revoke', 'Revoke'],
    ['prove', 'Prove that it is refused'],
    ['end', 'Forget the secrets, keep the history'],
  ] as const
  const at = $derived(STEPS.findIndex(([key]) => key === found.data?.step))

  async function confirm(event: Event): Promise<void> {
    event.preventDefault()
    const done = await acts.run(
      () =>
        ok(
          api.POST('/api/decommissionings/{identity}/confirmations', { ...path, body: { reason } }),
        ),
      own,
    )
    if (done) reason = ''
  }
  const revoke = (key: string) =>
    acts.run(
      () =>
        ok(api.POST('/api/decommissionings/{identity}/revocations', { ...path, body: { key } })),
      own,
    )
  const prove = () =>
    acts.run(() => ok(api.POST('/api/decommissionings/{identity}/proofs', path)), own)
  async function goOn(event: Event): Promise<void> {
    event.preventDefault()
    const done = await acts.run(
      () =>
        ok(api.POST('/api/decommissionings/{identity}/exceptions', { ...path, body: { reason } })),
      own,
    )
    if (done) reason = ''
  }
  const end = () =>
    acts.run(
      () =>
        ok(
          api.POST('/api/decommissionings/{identity}/completions', {
            ...path,
            body: { confirm: confirming, with_also: also },
          }),
        ),
      own,
    )
  const stop = () => acts.run(() => ok(api.DELETE('/api/decommissionings/{identity}', path)), own)
</script>

<svelte:head><title>Decommission {found.data?.name ?? ''} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  {@const it = found.data}
  {@const mayChange = may('change')}
  <header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
    <h1>Decommission {KINDS[it.of]}</h1>
    {#if it.address}<a class="act value" href={it.address}>{it.name}</a>
    {:else}<span class="value">{it.name}</span>{/if}
    <span class="help">{it.where}</span>
    {#if !it.ended && mayChange}<button class="act ms-auto" disabled={acts.busy} onclick={stop}
        >{it.gone ? 'Close' : 'Stop decommissioning'}</button
      >{/if}
  </header>
  {#if !acts.errors.reason && !acts.errors.confirm}<ProblemBox problem={acts.problem} />{/if}
  {#if it.cancelled}
    <p class="bg-quiet-ground mb-3 rounded-md px-3 py-2">
      <When at={it.ended} prefix="Stopped " past /> by {it.ended_by}. What was revoked stays
      revoked.
    </p>
  {:else if it.ended}
    <p class="bg-slate-ground mb-3 rounded-md px-3 py-2" role="status">
      <When at={it.ended} prefix="Decommissioned " past /> by {it.ended_by}. Its secrets are
      forgotten; what it was is below, and each step is in the journal.
    </p>
  {:else if it.gone}
    <p class="bg-wait-ground mb-3 rounded-md px-3 py-2">
      Somebody took it away otherwise. Nothing is left to be done here.
    </p>
  {/if}
  <ol class="flex max-w-4xl flex-col gap-3">
    {#each STEPS as [key, title], number (key)}
      {@const isNow = it.step === key}
      {@const isDone = Boolean(it.ended && !it.cancelled) || (at >= 0 && number < at)}
      <li class="sheet p-4" aria-current={isNow ? 'step' : undefined} data-step={key}>
        <h2 class="flex items-baseline gap-3">
          <span class={isDone ? 'text-success' : 'text-soft'}
            >{isDone ? '✓' : number + 1}<span class="sr-only">{isDone ? ' done' : ''}</span></span
          >
          <span class={isNow ? '' : 'text-soft'}>{title}</span>
        </h2>
        {#if key === 'uses'}
          {#if it.usages.length}
            <table class="rows mt-2">
              <thead><tr><th>What</th><th>How</th><th>Last use</th></tr></thead>
              <tbody>
                {#each it.usages as usage (usage.kind + usage.name)}
                  <tr>
                    <td
                      ><span class="help">{usage.kind}</span>
                      <a class="act" href={usage.address}>{usage.name}</a></td
                    >
                    <td>{usage.says}</td>
                    <td
                      >{#if usage.blocks}<strong class="text-error">must go first</strong>
                      {:else if usage.last}<When at={usage.last} past />
                      {:else}{usage.seen ? 'none was seen' : 'not seen from here'}{/if}</td
                    >
                  </tr>
                {/each}
              </tbody>
            </table>
          {:else if isNow}<p class="mt-1">Nothing that is known here uses it.</p>{/if}
          {#if it.confirmed_at}<p class="help mt-2">
              <When at={it.confirmed_at} prefix="Confirmed " past />{it.reason
                ? `: ${it.reason}`
                : ''}
            </p>{/if}
          {#if isNow && mayChange}
            <form class="mt-2" onsubmit={confirm}>
              {#if it.obstacle}
                <label class="block max-w-lg"
                  ><span class="label-text">Why may it stop?</span><input
                    class="line-in"
                    maxlength="300"
                    placeholder="The vendor closes on 31 December"
                    aria-invalid={acts.errors.reason ? 'true' : undefined}
                    bind:value={reason}
                  /></label
                >
                <p
                  class={acts.errors.reason ? 'text-error' : 'help'}
                  role={acts.errors.reason ? 'alert' : undefined}
                >
                  {acts.errors.reason ?? it.obstacle}
                </p>
              {/if}
              <p class="help mt-1">
                This revokes nothing yet.{it.of === 'connections'
                  ? ' Rounds leave the connection out from then on.'
                  : ''}
              </p>
              <button class="btn btn-primary btn-sm mt-2" disabled={acts.busy}
                >Confirm that it may stop</button
              >
            </form>
          {/if}
        {:else if key === 'revoke'}
          {#each it.revoked as revoked (revoked.key)}<p class="mt-1">
              <span class="text-success font-bold">✓</span>
              {capital(revoked.what)}
              <span class="help"
                >{HOW[revoked.how]}, <When at={revoked.at} past /> by {revoked.by}{revoked.said
                  ? `; ended there: ${revoked.said}`
                  : ''}</span
              >
            </p>{/each}
          {#if !it.ended}
            {#each it.left as left (left.key)}
              <div class="mt-2">
                <p class="flex flex-wrap items-baseline gap-x-3">
                  <span class="font-semibold">{capital(left.what)}</span>
                  <span class="help">{HOW[left.how]}</span>
                  {#if isNow && mayChange && left.how !== 'kept'}<button
                      class="btn btn-sm ms-auto"
                      disabled={acts.busy}
                      aria-label="{left.how === 'manually'
                        ? 'It is revoked there'
                        : 'Revoke'}: {left.what}"
                      onclick={() => revoke(left.key)}
                      >{left.how === 'manually' ? 'It is revoked there' : 'Revoke'}</button
                    >{/if}
                </p>
                {#if left.says}<p class="help">{left.says}</p>{/if}
                {#if isNow && left.acts.length}<ol class="ms-5 list-decimal">
                    {#each left.acts as act (act)}<li>{act}</li>{/each}
                  </ol>{/if}
              </div>
            {:else}{#if isNow || (number > at && !it.revoked.length)}<p class="help mt-1">
                  There is nothing to be revoked.
                </p>{/if}{/each}
          {/if}
        {:else if key === 'prove'}
          {#if it.proven_at}<p class="mt-1">
              {it.proof} <span class="help"><When at={it.proven_at} prefix="seen " past /></span>
            </p>
          {:else if it.unproven}<p class="mt-1">
              Not proven: {it.unproven}
            </p>
          {:else if it.proof}<p class="bg-wait-ground mt-2 rounded-md px-3 py-2" role="status">
              Not proven yet: {it.proof}
            </p>{/if}
          {#if isNow && mayChange}
            <p class="help mt-1">
              It is tried once, as a test would: the application has to refuse it.
            </p>
            <button class="btn btn-primary btn-sm mt-2" disabled={acts.busy} onclick={prove}
              >Try now</button
            >
            {#if it.proof}
              <form class="mt-3 max-w-lg" onsubmit={goOn}>
                <label class="block"
                  ><span class="label-text">It cannot be tried? Say how you checked it</span><input
                    class="line-in"
                    maxlength="300"
                    aria-invalid={acts.errors.reason ? 'true' : undefined}
                    bind:value={reason}
                  /></label
                >
                {#if acts.errors.reason}<p role="alert" class="text-error">
                    {acts.errors.reason}
                  </p>{/if}
                <button class="btn btn-sm mt-2" disabled={acts.busy || !reason.trim()}
                  >Go on without proof</button
                >
              </form>
            {/if}
          {/if}
        {:else if isNow && mayChange}
          <p class="mt-1">
            Secrets that nothing else uses are removed from the safe, and cannot be brought back.
            What it was stays on this page: its fields, what used it, its last tests and draws.
          </p>
          {#if it.also}<label class="mt-2 flex min-h-[26px] items-center gap-2"
              ><input type="checkbox" bind:checked={also} /> {it.also}</label
            >{/if}
          <label class="mt-2 block max-w-lg"
            ><span class="label-text">To confirm, type {it.name}</span><input
              class="line-in value"
              aria-invalid={acts.errors.confirm ? 'true' : undefined}
              bind:value={confirming}
            /></label
          >
          {#if acts.errors.confirm}<p role="alert" class="text-error">{acts.errors.confirm}</p>{/if}
          <button
            class="btn btn-error btn-sm mt-2"
            disabled={acts.busy || confirming.trim() !== it.name}
            onclick={end}>Decommission now</button
          >
        {/if}
      </li>
    {/each}
  </ol>
  {#if it.ended && !it.cancelled}<History history={it.history} />{/if}
{/if}
