<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, Problem, type Schemas } from '../../api/client'
  import CertificateIn, { isGiven, nothing } from '../../lib/CertificateIn.svelte'
  import Field from '../../lib/Field.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import SubNav from '../../lib/SubNav.svelte'
  import { day, exact } from '../../lib/time'
  import ChainDrawing from './ChainDrawing.svelte'
  import LinkFacts from './LinkFacts.svelte'
  import Verdict from './Verdict.svelte'

  const houses = createQuery(() => ({
    queryKey: ['certificate-authorities'],
    queryFn: () => ok(api.GET('/api/certificate-authorities')),
  }))
  let given = $state(nothing())
  let form = $state({ trust: 'its-own', purpose: 'any', host: '', at: '' })
  let found = $state<Schemas['ReadingOut'] | null>(null)
  let shown = $state(0)
  let problem = $state<unknown>(null)
  const errors = $derived(problem instanceof Problem ? problem.errors : {})

  async function read(event?: Event): Promise<void> {
    event?.preventDefault()
    problem = null
    try {
      found = await ok(
        api.POST('/api/certificate-readings', {
          body: {
            ...form,
            text: given.text,
            base64: given.base64,
            password: given.password,
            at: form.at ? new Date(form.at).toISOString() : null,
          },
        }),
      )
      shown = 0
    } catch (error) {
      found = null
      problem = error
    }
  }
</script>

<svelte:head><title>Read a certificate · Neat Latch</title></svelte:head>
<SubNav group="credentials" />
<header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
  <h1>Read a certificate</h1>
  <span class="help"
    >a certificate, a chain, a signing request, a revocation list, a PKCS#12 file; nothing of it is
    kept</span
  >
</header>
<div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_320px] items-start gap-4">
  <div class="flex flex-col gap-4">
    {#if found?.chain}
      {@const chain = found.chain}
      <section class="sheet p-4" aria-labelledby="chain">
        <h2 id="chain" class="mb-2">The chain</h2>
        <Verdict {chain} />
        <ChainDrawing {chain} />
        {#if found.key_fits !== null}<p
            class="mt-2 {found.key_fits ? 'text-success' : 'text-error'} font-semibold"
          >
            {found.key_fits
              ? 'The private key in it is this certificate’s.'
              : 'The private key in it is NOT this certificate’s.'}
          </p>{/if}
        {#if found.others.length}<p class="help mt-2">
            Also in it, and not in the chain: {found.others.join('; ')}.
          </p>{/if}
      </section>
      <section class="sheet p-4" aria-labelledby="facts">
        <div class="mb-2 flex flex-wrap items-baseline gap-x-4">
          <h2 id="facts">What they say</h2>
          {#each chain.links as link, place (link.sha256)}<button
              class={place === shown ? 'font-bold' : 'act'}
              aria-pressed={place === shown}
              onclick={() => (shown = place)}
              >{link.role === 'leaf'
                ? 'The certificate'
                : link.role === 'root'
                  ? 'Its root'
                  : 'Its issuer'}</button
            >{/each}
        </div>
        <LinkFacts link={chain.links[shown] ?? chain.links[0]!} />
      </section>
    {/if}
    {#if found?.key && !found.chain}<section class="sheet p-4">
        <h2>A private key</h2>
        <p>{found.key}</p>
      </section>{/if}
    {#each found?.requests ?? [] as entry, place (place)}
      <section class="sheet p-4" aria-label="Signing request">
        <h2 class="mb-1">A signing request</h2>
        <p class="value">{entry.subject}</p>
        <p>
          {entry.names.length ? `For ${entry.names.join(', ')}.` : 'It names no other names.'}
          {entry.key}.
        </p>
        <p class={entry.holds ? 'text-success font-semibold' : 'text-error font-semibold'}>
          {entry.holds
            ? 'Its signature is valid: its maker has the key.'
            : 'Its signature does not hold: it was changed, or made without the key.'}
        </p>
      </section>
    {/each}
    {#each found?.lists ?? [] as item, place (place)}
      <section class="sheet p-4" aria-label="Revocation list">
        <h2 class="mb-1">A revocation list</h2>
        <p class="value">{item.issuer}</p>
        <p>
          {item.number === null ? '' : `Number ${item.number}, `}made {day(
            item.this_update,
          )}{item.next_update ? `, the next by ${day(item.next_update)}` : ''}.
          {item.count}
          {item.count === 1 ? 'entry' : 'entries'}.
        </p>
        {#if item.revoked.length}<table class="rows mt-1">
            <thead><tr><th>Serial</th><th>Revoked</th><th>Reason</th></tr></thead>
            <tbody>
              {#each item.revoked as each (each.serial)}<tr
                  ><td class="value">{each.serial}</td><td title={exact(each.at)}>{day(each.at)}</td
                  ><td>{each.reason}</td></tr
                >{/each}
            </tbody>
          </table>{/if}
      </section>
    {/each}
    {#each found?.notes ?? [] as note (note)}<p class="bg-wait-ground rounded-md px-3 py-2">
        {note}
      </p>{/each}
    <ProblemBox problem={Object.keys(errors).length ? null : problem} />
    {#if !found}<section class="sheet p-4">
        <p>
          Paste one on the right, or choose a file. PEM, DER, PKCS#7 and PKCS#12 are recognised by
          their content.
        </p>
      </section>{/if}
  </div>
  <form class="sheet p-4" onsubmit={read}>
    <CertificateIn
      id="pasted"
      label="Pasted (PEM)"
      bind:given
      error={errors.text}
      passwordError={errors.password}
      chosen={() => void read()}
    />
    <Field id="trust" label="Judged against" error={errors.trust}>
      <select id="trust" class="line-in" bind:value={form.trust}>
        <option value="its-own">the root that came with it</option>
        {#each houses.data ?? [] as entry (entry.environment.key)}<option
            value={entry.environment.key}>the house's root, {entry.environment.name}</option
          >{/each}
        <option value="none">nothing: no root is trusted</option>
      </select>
    </Field>
    <Field id="purpose" label="To be used by">
      <select id="purpose" class="line-in" bind:value={form.purpose}>
        <option value="any">anybody</option><option value="server">a server</option><option
          value="client">a client</option
        >
      </select>
    </Field>
    <Field id="host" label="Called by this name">
      <input id="host" class="line-in value" bind:value={form.host} />
    </Field>
    <Field id="at" label="At this moment" error={errors.at} help="Empty: now.">
      <input id="at" type="datetime-local" class="line-in" bind:value={form.at} />
    </Field>
    <button class="btn btn-primary btn-sm" disabled={!isGiven(given)}>Read certificate</button>
  </form>
</div>
