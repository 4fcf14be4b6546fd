<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, once, Problem } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ApplicationField from '../../lib/ApplicationField.svelte'
  import CopyLine from '../../lib/CopyLine.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Field from '../../lib/Field.svelte'
  import Loading from '../../lib/Loading.svelte'
  import { paged } from '../../lib/paged.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import SubNav from '../../lib/SubNav.svelte'
  import When from '../../lib/When.svelte'
  import { goto, route } from '../../router'
  import ChainDrawing from './ChainDrawing.svelte'
  import IssueCertificate, { type Wanted } from './IssueCertificate.svelte'
  import Replacement from './Replacement.svelte'

  const acts = acting('certificate', 'house')
  const houses = createQuery(() => ({
    queryKey: ['certificate-authorities'],
    queryFn: () => ok(api.GET('/api/certificate-authorities')),
  }))
  const accepting = createQuery(() => ({
    queryKey: ['house'],
    queryFn: () => ok(api.GET('/api/house')),
  }))
  const chosen = $derived(String((route.search as Record<string, unknown>).environment ?? ''))
  const shown = $derived(
    houses.data?.find((each) => each.environment.key === chosen) ?? houses.data?.at(-1),
  )
  const listed = (lives: boolean) =>
    paged(
      () => ['certificates', shown?.environment.key ?? '', lives],
      (cursor) =>
        ok(
          api.GET('/api/certificates', {
            params: { query: { environment: shown!.environment.key, lives, cursor } },
          }),
        ),
      { every: 15_000, enabled: () => Boolean(shown) },
    )
  const living = listed(true)
  const gone = listed(false)
  const root = $derived(shown?.authorities.find((each) => each.state === 'issuing'))
  const accepted = $derived(
    accepting.data?.find((each) => each.environment.key === shown?.environment.key)?.accepting ?? 0,
  )
  let issuing = $state(false)
  let application = $state('')
  const sent = once()

  const issue = (wanted: Wanted) =>
    acts.run(async () => {
      const body = { ...wanted, application, environment: shown!.environment.key }
      const made = await ok(
        api.POST('/api/server-certificates', { body, headers: sent.headers(body) }),
      )
      sent.over()
      goto(`/certificates/${made.id}`)
    })
</script>

<svelte:head><title>Certificates · Neat Latch</title></svelte:head>
<SubNav group="credentials" />
<header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  <h1>Certificates</h1>
  <span class="help">of the house</span>
  <a class="act" href="/certificates/read">Read any certificate</a>
  {#if houses.data}
    <nav aria-label="Environments" class="ms-auto flex gap-2">
      {#each houses.data as each (each.environment.key)}<a
          class="min-h-[28px] rounded px-1 pt-1 {each === shown
            ? 'border-base-content border-b-2'
            : ''}"
          aria-current={each === shown ? 'page' : undefined}
          href="/certificates?environment={each.environment.key}"
          ><EnvBadge environment={each.environment} /></a
        >{/each}
    </nav>
  {/if}
</header>
<Loading query={houses} />
{#if shown}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_400px] items-start gap-4">
    <div class="flex flex-col gap-4">
      <section class="sheet p-4" aria-labelledby="living">
        <div class="mb-2 flex items-baseline gap-4">
          <h2 id="living">Valid</h2>
          <span class="help">soonest expiry first</span>
          {#if may('change') && accepted}<button
              class="btn btn-sm ms-auto"
              onclick={() => (issuing = !issuing)}>Issue server certificate</button
            >{/if}
        </div>
        {#if issuing}
          <div class="border-base-300 mb-3 max-w-xl border-b pb-3">
            <Field
              id="server-of"
              label="Whose server"
              error={acts.problem instanceof Problem ? acts.problem.errors.application : ''}
            >
              <ApplicationField
                id="server-of"
                house={shown.environment.key}
                none="Choose an application"
                bind:value={application}
              />
            </Field>
            <IssueCertificate
              profile="server"
              problem={acts.problem}
              busy={acts.busy || !application}
              {issue}
              leave={() => (issuing = false)}
            />
            <p class="help mt-2">To a client one is issued on the client's own page.</p>
          </div>
        {/if}
        <ProblemBox problem={acts.problem} />
        {#if living.rows.length}
          <table class="rows">
            <thead
              ><tr><th>Name</th><th>For</th><th>Serial</th><th>Expires</th><th>Held by</th></tr
              ></thead
            >
            <tbody>
              {#each living.rows as each (each.id)}
                <tr>
                  <td><a class="act" href="/certificates/{each.id}">{each.common_name}</a></td>
                  <td
                    >{each.profile === 'server'
                      ? `${each.application}, its servers`
                      : `a client of ${each.application}`}</td
                  >
                  <td class="value whitespace-nowrap">{each.hint}</td>
                  <td
                    ><When at={each.ends} />{#if each.replaced_by}<br /><span
                        class="text-warning font-semibold">replaced already</span
                      >{/if}</td
                  >
                  <td
                    >{#each each.connections as ref (ref)}<a
                        class="act value"
                        href="/connections/{ref}">{ref}</a
                      >{:else}<span class={each.waits ? 'text-warning font-semibold' : 'text-soft'}
                        >{each.waits
                          ? 'not handed over yet'
                          : each.by_request
                            ? 'its holder, who made the key'
                            : 'its holder'}</span
                      >{/each}</td
                  >
                </tr>
              {/each}
            </tbody>
          </table>
          {#if living.query.hasNextPage}<button
              class="btn btn-sm mt-2"
              onclick={() => living.query.fetchNextPage()}>Show more</button
            >{/if}
        {:else if living.query.data}<p>
            None yet. Issue one to a server, or register a client that presents one.
          </p>{/if}
      </section>
      {#if root}{#key shown.environment.key}<Replacement house={shown} />{/key}{/if}
      {#if gone.rows.length}
        <section class="sheet p-4" aria-labelledby="gone">
          <h2 id="gone" class="mb-2">Revoked and expired</h2>
          <table class="rows">
            <thead><tr><th>Name</th><th>For</th><th>Serial</th><th>When</th><th>Why</th></tr></thead
            >
            <tbody>
              {#each gone.rows as each (each.id)}
                <tr>
                  <td><a class="act" href="/certificates/{each.id}">{each.common_name}</a></td>
                  <td>{each.application}</td>
                  <td class="value whitespace-nowrap">{each.hint}</td>
                  <td><When at={each.revoked ?? each.ends} /></td>
                  <td>{each.revoked ? `revoked: ${each.reason}` : 'expired'}</td>
                </tr>
              {/each}
            </tbody>
          </table>
          {#if gone.query.hasNextPage}<button
              class="btn btn-sm mt-2"
              onclick={() => gone.query.fetchNextPage()}>Show more</button
            >{/if}
        </section>
      {/if}
    </div>
    <div class="flex flex-col gap-4">
      <section class="sheet p-4" aria-labelledby="authority">
        <h2 id="authority" class="mb-1">The authority of {shown.environment.name}</h2>
        {#if root}
          <ChainDrawing chain={root.chain} />
          <p class="label-text mt-3">Roots to trust (PEM)</p>
          <CopyLine text={shown.trust_address} what="the address of the roots" />
          <p class="label-text mt-2">Revocation list</p>
          <CopyLine text={root.list_address} what="the address of the revocation list" />
          <p class="help mt-2">
            Each environment has its own. A receiver fetches the list again every few seconds; a
            revoked certificate is on it at once. The keys are sealed.
          </p>
        {:else}<p>
            It is made with the first certificate: a root, and below it the authority that issues.
            Both keys are sealed.
          </p>{/if}
      </section>
    </div>
  </div>
{/if}
