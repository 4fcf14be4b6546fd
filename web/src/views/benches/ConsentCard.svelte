<script lang="ts">
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import CopyLine from '../../lib/CopyLine.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'

  let { bench }: { bench: Schemas['MatrixOut'] } = $props()
  const acts = acting('client')
  const wants = $derived(bench.rows.filter((request) => request.administrator && request.known))
  const open = $derived(wants.filter((want) => want.consent_state !== 'given'))
  let asking = $state(false)
  let scopes = $state<string[]>([])
  let asked_of = $state('')
  const path = $derived({ path: { identity: bench.client } })

  function begin(): void {
    scopes = open
      .filter((request) => request.permitted || request.in_trim || request.requested.length)
      .map((request) => request.name)
    asking = true
  }
  const ask = (event: Event) => {
    event.preventDefault()
    void acts
      .run(() =>
        ok(
          api.POST('/api/clients/{identity}/consent-requests', {
            params: path,
            body: { scopes, asked_of },
          }),
        ),
      )
      .then(() => (asking = Boolean(acts.problem)))
  }
  const withdraw = (identity: string) =>
    acts.run(() =>
      ok(
        api.POST('/api/consent-requests/{identity}/withdrawals', {
          params: { path: { identity } },
        }),
      ),
    )
  const note = (scope: string, given: boolean) =>
    acts.run(() =>
      ok(api.POST('/api/clients/{identity}/consents', { params: path, body: { scope, given } })),
    )
</script>

<section class="sheet p-4" aria-labelledby="consent">
  <header class="flex items-baseline">
    <h2 id="consent">Consent</h2>
    {#if may('change') && open.length && !asking}<button class="act ms-auto" onclick={begin}
        >Ask an administrator by a link</button
      >{/if}
  </header>
  {#each wants as want (want.name)}
    <p class="flex flex-wrap items-baseline gap-x-3">
      <span class="value">{want.name}</span>
      {#if want.consent}<span class="text-soft"
          >{want.consent.who}, <When at={want.consent.when} /></span
        >
        {#if may('change')}<button class="act" onclick={() => note(want.name, false)}
            >Record withdrawal</button
          >{/if}
      {:else}<span class={want.permitted ? 'text-error font-semibold' : 'text-soft'}
          >{want.consent_state === 'asked' ? 'asked for' : 'not given'}</span
        >
        {#if may('change')}<button class="act" onclick={() => note(want.name, true)}
            >Record consent</button
          >{/if}{/if}
    </p>
  {:else}<p class="help">
      None of the scopes requires an administrator; the person who signs in consents.
    </p>{/each}
  {#if asking}
    <form class="border-base-300 mt-2 border-t pt-2" onsubmit={ask}>
      <fieldset>
        <legend class="label-text">Ask for consent to</legend>
        {#each open as request (request.name)}<label class="flex min-h-[26px] items-center gap-2"
            ><input type="checkbox" value={request.name} bind:group={scopes} />
            <span class="value">{request.name}</span></label
          >{/each}
      </fieldset>
      <label class="block"
        ><span class="label-text">Whom do you ask?</span><input
          class="line-in"
          placeholder="their administrator's name"
          bind:value={asked_of}
        /></label
      >
      <div class="mt-2 flex gap-3">
        <button class="btn btn-primary btn-sm" disabled={acts.busy || !scopes.length}
          >Create link</button
        >
        <button type="button" class="btn btn-sm" onclick={() => (asking = false)}>Cancel</button>
      </div>
    </form>
  {/if}
  <ProblemBox problem={acts.problem} />
  {#each bench.requests as request (request.id)}
    <div class="border-base-300 mt-2 border-t pt-2">
      <p>
        <span class="value">{request.scopes.join(' ')}</span>
        {#if request.state === 'waiting'}<span class="text-warning font-semibold">waiting</span>,
          <When at={request.ends} prefix="the link expires " />
          {#if may('change')}<button class="act" onclick={() => withdraw(request.id)}
              >Withdraw</button
            >{/if}
        {:else if request.state === 'answered'}{request.given.length ? 'given' : 'refused'} by
          {request.answered_by}, <When at={request.answered_at} />{:else}<span class="text-soft"
            >{request.state}</span
          >{/if}
      </p>
      {#if request.says}<p class="help">“{request.says}”</p>{/if}
      {#if request.link}<CopyLine text={request.link} what="the link that asks for consent" />
        <p class="help">
          Send it to {request.asked_of || 'their administrator'}. It serves once and shows nothing
          secret.
        </p>{/if}
    </div>
  {/each}
</section>
