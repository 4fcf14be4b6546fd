<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, once, type Client } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import { counted } from '../../lib/words'
  import { goto } from '../../router'
  import IssueCertificate, { type Wanted } from '../certificates/IssueCertificate.svelte'
  import RejectedRequests from '../credentials/RejectedRequests.svelte'

  let { client }: { client: Client } = $props()
  const acts = acting('client', 'certificate')
  const sent = once()
  const path = $derived({ params: { path: { identity: client.id } } })
  const found = createQuery(() => ({
    queryKey: ['issued', client.id],
    queryFn: () => ok(api.GET('/api/clients/{identity}/issued', path)),
    refetchInterval: 5000,
  }))
  const STATES: Record<string, string> = {
    prepared: 'prepared',
    active: 'active',
    retiring: 'retiring',
    retired: 'retired',
    revoked: 'revoked',
  }
  let revoking = $state('')
  let why = $state('')
  const live = $derived(
    (found.data?.secrets ?? []).filter((secret) => !secret.over && secret.lives),
  )
  const most = $derived(found.data?.most_secrets ?? 2)
  const shows = $derived(client.shows_certificate)
  let issuing = $state(false)
  const issue = (wanted: Wanted) =>
    acts.run(async () => {
      const headers = sent.headers([path, wanted])
      const made = await ok(
        api.POST('/api/clients/{identity}/certificates', { ...path, body: wanted, headers }),
      )
      sent.over()
      goto(`/certificates/${made.id}`)
    })
  const another = () =>
    acts.run(async () => {
      await ok(
        api.POST('/api/clients/{identity}/secrets', {
          ...path,
          body: {},
          headers: sent.headers([path, 'secret']),
        }),
      )
      sent.over()
    })
  const endTokens = (tokens: number[] | null) =>
    acts.run(() =>
      ok(
        api.POST('/api/clients/{identity}/token-revocations', {
          ...path,
          body: { why: 'ended on its page', tokens },
        }),
      ),
    )
  async function revoke(event: Event): Promise<void> {
    event.preventDefault()
    const identity = revoking
    await acts.run(() =>
      ok(
        api.POST('/api/credentials/{identity}/revocations', {
          params: { path: { identity } },
          body: { why },
        }),
      ),
    )
    if (!acts.problem) revoking = why = ''
  }
</script>

<section class="sheet p-4" aria-labelledby="issued">
  <div class="mb-2 flex flex-wrap items-baseline gap-x-4">
    <h2 id="issued">What it holds</h2>
    <span class="help">issued by the house authority{shows ? '' : ', kept as digests'}</span>
    {#if may('change') && shows}
      <button
        class="btn btn-sm ms-auto"
        disabled={live.length >= most}
        onclick={() => (issuing = !issuing)}>Issue another certificate</button
      >
    {:else if may('change') && client.keeps_secrets}
      <button
        class="btn btn-sm ms-auto"
        disabled={acts.busy || live.length >= most}
        title={live.length >= most ? 'Two live already; revoke one first' : undefined}
        onclick={another}>Add secret</button
      >
    {/if}
  </div>
  <Loading query={found} />
  {#if issuing}<div class="mb-3 max-w-xl">
      <IssueCertificate
        profile="client"
        problem={acts.problem}
        busy={acts.busy}
        {issue}
        leave={() => (issuing = false)}
      />
    </div>{/if}
  <ProblemBox problem={acts.problem} />
  {#if found.data}
    {@const held = found.data}
    {#if held.secrets.length}
      <div class="grid grid-cols-2 gap-3">
        {#each held.secrets.slice(0, 4) as secret (secret.id)}
          {@const dead = secret.over || !secret.lives}
          <article
            class="border-base-300 rounded-md border p-3 {dead
              ? 'bg-quiet-ground border-dashed'
              : ''}"
            aria-label="{secret.kind === 'private_key' ? 'Certificate' : 'Secret'} {secret.hint}"
          >
            <p class="flex items-baseline gap-2">
              <span class="value text-[1.1rem] {dead ? 'line-through' : 'font-bold'}"
                >{secret.hint}</span
              >
              <span class={dead ? 'text-error font-semibold' : 'text-success font-semibold'}
                >{secret.over && secret.state !== 'revoked'
                  ? 'expired'
                  : STATES[secret.state]}</span
              >
              {#if secret.handover}<span class="text-warning font-semibold"
                  >not handed over yet</span
                >{/if}
            </p>
            <dl class="mt-1 grid grid-cols-[6.5rem_1fr] gap-x-2">
              <dt class="text-soft">Made</dt>
              <dd><When at={secret.issued} /> by {secret.made_by}</dd>
              <dt class="text-soft">Expires</dt>
              <dd>
                {#if secret.ends}<When at={secret.ends} />{:else}no expiry{/if}
              </dd>
              <dt class="text-soft">Last used</dt>
              <dd>
                {#if secret.last_used}<When at={secret.last_used} /> from
                  <span class="value">{secret.last_used_from}</span>{:else}never{/if}
              </dd>
              {#if client.gets_tokens}<dt class="text-soft">Tokens alive</dt>
                <dd>{secret.tokens}</dd>{/if}
              {#if secret.connections.length}<dt class="text-soft">Held by</dt>
                <dd>
                  {#each secret.connections as ref (ref)}<a
                      class="act value me-2"
                      href="/connections/{ref}">{ref}</a
                    >{/each}
                </dd>{/if}
              {#if secret.drawn_by.length}<dt class="text-soft">Drawn by</dt>
                <dd>
                  {#each secret.drawn_by.slice(0, 4) as each (`${each.workload}${each.last}`)}
                    <p>
                      {#if each.workload}<a class="act" href="/workloads/{each.workload}"
                          >{each.name}</a
                        >{:else}{each.name}{/if},
                      <When at={each.last} prefix="last " />
                    </p>{/each}{secret.drawn_by.length > 4
                    ? `and ${secret.drawn_by.length - 4} more`
                    : ''}
                </dd>{/if}
              {#if secret.why}<dt class="text-soft">Why</dt>
                <dd>{secret.why}</dd>{/if}
            </dl>
            {#if secret.kind === 'private_key'}<a
                class="act mt-1 me-3"
                href="/certificates/{secret.id}">Its chain, renew, revoke</a
              >
            {:else if !dead && may('change')}
              {#if revoking === secret.id}
                <form class="mt-2" onsubmit={revoke}>
                  <p class="bg-bad-ground mb-2 rounded-md px-3 py-2">
                    Refused from now on{secret.tokens
                      ? `, and its ${counted(secret.tokens, 'living token')} with it`
                      : ''}.
                    {secret.connections.length
                      ? `${secret.connections.join(', ')} would stop.`
                      : 'No connection here holds it.'} It cannot be undone.
                  </p>
                  <label class="block"
                    ><span class="label-text">Why</span><input
                      class="line-in"
                      bind:value={why}
                      required
                      maxlength="200"
                    /></label
                  >
                  <button class="btn btn-error btn-sm mt-2" disabled={acts.busy || !why.trim()}
                    >Revoke {secret.hint}</button
                  >
                  <button type="button" class="btn btn-sm mt-2" onclick={() => (revoking = '')}
                    >Cancel</button
                  >
                </form>
              {:else}<button class="act mt-1" onclick={() => ((revoking = secret.id), (why = ''))}
                  >Revoke secret</button
                >{/if}
            {/if}
          </article>
        {/each}
      </div>
      {#if held.secrets.length > 4}<p class="help mt-1">
          {held.secrets.length - 4} older ones are in the journal.
        </p>{/if}
    {:else}<p>
        {client.public
          ? 'A public client has no secret; it proves itself by PKCE.'
          : 'No secret was made yet.'}
      </p>{/if}
    {#if client.gets_tokens}
      <div class="mt-4 mb-1 flex items-baseline gap-4">
        <h3 class="font-bold">Tokens alive</h3>
        <span class="help"
          >{held.tokens_alive || 'none'}{held.allowed_by.length
            ? ` · allowed by ${held.allowed_by.join(', ')}`
            : ''}</span
        >
        {#if may('change') && (held.tokens_alive || held.allowed_by.length)}<button
            class="act ms-auto"
            disabled={acts.busy}
            onclick={() => endTokens(null)}>End all of them</button
          >{/if}
      </div>
      {#if held.tokens.length}
        <div>
          <table class="rows">
            <thead
              ><tr
                ><th>For</th><th>Got with</th><th>Scopes</th><th>Made</th><th>Expires</th><th
                  ><span class="sr-only">Actions</span></th
                ></tr
              ></thead
            >
            <tbody>
              {#each held.tokens.slice(0, 8) as entry (entry.number)}
                <tr>
                  <td>{entry.person || 'the client itself'}</td><td class="value"
                    >{entry.secret || 'PKCE alone'}</td
                  >
                  <td class="value">{entry.scopes.join(' ')}</td><td><When at={entry.issued} /></td
                  ><td><When at={entry.ends} /></td>
                  <td
                    >{#if may('change')}<button
                        class="act"
                        disabled={acts.busy}
                        onclick={() => endTokens([entry.number])}
                        aria-label="End token {entry.number}">End token</button
                      >{/if}</td
                  >
                </tr>
              {/each}
            </tbody>
          </table>
          {#if held.tokens_alive > 8}<p class="help">and {held.tokens_alive - 8} older ones</p>{/if}
        </div>
      {/if}
    {/if}
    {#if held.rejected_requests.length}<RejectedRequests rows={held.rejected_requests} />{/if}
  {/if}
</section>
