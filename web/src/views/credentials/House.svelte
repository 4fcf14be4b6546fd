<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ApplicationField from '../../lib/ApplicationField.svelte'
  import CopyLine from '../../lib/CopyLine.svelte'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import Loading from '../../lib/Loading.svelte'
  import { paged } from '../../lib/paged.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import SubNav from '../../lib/SubNav.svelte'
  import When from '../../lib/When.svelte'
  import { goto, route } from '../../router'
  import RegistrationRights from './RegistrationRights.svelte'
  import RejectedRequests from './RejectedRequests.svelte'

  const acts = acting('house', 'application')
  const list = createQuery(() => ({
    queryKey: ['house'],
    queryFn: () => ok(api.GET('/api/house')),
    refetchInterval: 10000,
  }))
  const chosen = $derived(String((route.search as Record<string, unknown>).environment ?? ''))
  const item = $derived(
    list.data?.find((each) => each.environment.key === chosen) ?? list.data?.at(-1),
  )
  const accepting = paged(
    () => ['house', 'accepting', item?.environment.key ?? ''],
    (cursor) => {
      const path = { environment: item!.environment.key }
      return ok(
        api.GET('/api/house/{environment}/applications', { params: { path, query: { cursor } } }),
      )
    },
    { enabled: () => Boolean(item) },
  )
  let adding = $state('')
  const TURNS: Record<string, string> = {
    signing: 'signs',
    waiting: 'waits for its turn',
    leaving: 'leaves',
  }

  const rollOver = (environment: string) =>
    acts.run(() =>
      ok(api.POST('/api/house/{environment}/signing-keys', { params: { path: { environment } } })),
    )
  const accept = (environment: string, application: string, accepts: boolean) =>
    acts.run(() =>
      ok(
        api.PUT('/api/house/{environment}/applications/{application}', {
          params: { path: { environment, application } },
          body: { accepts },
        }),
      ),
    )
  const letAsk = (environment: string, application: string) =>
    acts.run(async () => {
      const made = await ok(
        api.POST('/api/house/{environment}/applications/{application}/introspection-clients', {
          params: { path: { environment, application } },
        }),
      )
      goto(`/clients/${made.client}`)
    })
  const newClient = (application: string) => `/applications/${application}/clients/new`
</script>

<svelte:head><title>House authority · Neat Latch</title></svelte:head>
<SubNav group="credentials" />
<header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  <h1>House authority</h1>
  <span class="help">issues clients, keys and tokens for the firm's own applications</span>
  {#if list.data}
    <nav aria-label="Environments" class="ms-auto flex gap-2">
      {#each list.data as each (each.environment.key)}<a
          class="min-h-[28px] rounded px-1 pt-1 {each === item
            ? 'border-base-content border-b-2'
            : ''}"
          aria-current={each === item ? 'page' : undefined}
          href="/credentials/house?environment={each.environment.key}"
          ><EnvBadge environment={each.environment} /></a
        >{/each}
    </nav>
  {/if}
</header>
<Loading query={list} />
<ProblemBox problem={acts.problem} />
{#if item}
  {@const environment = item.environment.key}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_380px] items-start gap-4">
    <div class="flex flex-col gap-4">
      <section class="sheet p-4" aria-labelledby="accepting">
        <h2 id="accepting" class="mb-2">Applications that accept it</h2>
        {#if accepting.rows.length}
          <table class="rows">
            <thead
              ><tr
                ><th>Application</th><th>Clients</th><th>Introspection</th><th
                  ><span class="sr-only">Actions</span></th
                ></tr
              ></thead
            >
            <tbody>
              {#each accepting.rows as each (each.application)}
                <tr>
                  <td><a class="act" href="/applications/{each.application}">{each.name}</a></td>
                  <td>{each.clients}</td>
                  <td
                    >{#if each.asker}<a class="act value" href="/clients/{each.asker}"
                        >{each.asks_as}</a
                      >{:else}<span class="text-soft">validates tokens locally</span>{/if}</td
                  >
                  <td class="text-end whitespace-nowrap">
                    {#if may('change')}
                      <a
                        class="act me-3"
                        href="{newClient(each.application)}?environment={environment}"
                        >Issue a client</a
                      >
                      {#if !each.asker}<button
                          class="act me-3"
                          disabled={acts.busy}
                          onclick={() => letAsk(environment, each.application)}
                          >Allow introspection</button
                        >{/if}
                      {#if !each.clients}<button
                          class="act"
                          disabled={acts.busy}
                          onclick={() => accept(environment, each.application, false)}
                          >Remove</button
                        >{/if}
                    {/if}
                  </td>
                </tr>
              {/each}
            </tbody>
          </table>
          {#if accepting.query.hasNextPage}<button
              class="btn btn-sm mt-2"
              onclick={() => accepting.query.fetchNextPage()}>Show more</button
            >{/if}
        {:else if accepting.query.data}
          <p>
            None yet. An application of the firm accepts the house authority when its people have
            set it up with the addresses on the right. Add it here afterwards, and clients can be
            issued for it.
          </p>
        {/if}
        {#if may('change')}
          <form
            class="mt-3 flex items-end gap-2"
            onsubmit={(event) => {
              event.preventDefault()
              void accept(environment, adding, true).then((added) => {
                if (added) adding = ''
              })
            }}
          >
            <label for="accepts"
              ><span class="label-text">Add an application</span><ApplicationField
                id="accepts"
                none="Choose an application"
                bind:value={adding}
              /></label
            >
            <button class="btn btn-sm" disabled={acts.busy || !adding}>Add application</button>
          </form>
        {/if}
      </section>
      {#if may('change')}{#key environment}<RegistrationRights authority={item} />{/key}{/if}
      {#if item.rejected_requests.length}<section class="sheet px-4 pb-4">
          <RejectedRequests rows={item.rejected_requests} client />
        </section>{/if}
    </div>
    <div class="flex flex-col gap-4">
      <section class="sheet p-4">
        <h2 class="mb-1">Now</h2>
        <p>
          <strong class="text-[1.3rem]">{item.clients}</strong>
          {item.clients === 1 ? 'client' : 'clients'},
          <strong class="text-[1.3rem]">{item.tokens}</strong> active tokens
        </p>
      </section>
      <section class="sheet p-4">
        <h2 class="mb-1">Settings for its applications</h2>
        <p class="label-text mt-1">Issuer</p>
        <CopyLine text={item.issuer} what="the issuer" />
        <p class="label-text mt-2">Metadata (RFC 8414)</p>
        <CopyLine text={item.metadata_address} what="the metadata address" />
        <p class="help mt-2">
          Each environment has an issuer of its own: what one issues is refused in another. A
          receiver asks about tokens (introspection), or checks signatures with the key set and
          looks at the status list that a token names.
        </p>
      </section>
      <section class="sheet p-4" aria-labelledby="keys-of">
        <h2 id="keys-of" class="mb-1">Signing keys</h2>
        {#each item.keys.filter((key) => key.turn !== 'gone') as key (key.kid)}
          <div class="border-base-300 mb-2 border-b pb-2 last:border-0">
            <p>
              <span class="value">{key.kid.slice(0, 12)}…</span>
              <span
                class={key.turn === 'signing'
                  ? 'text-success font-semibold'
                  : 'text-warning font-semibold'}>{TURNS[key.turn]}</span
              >
            </p>
            <p class="help">
              {#if key.turn === 'waiting'}<When
                  at={key.signs_from}
                  prefix="signs "
                />{:else if key.published_until}<When
                  at={key.published_until}
                  prefix="shown until "
                />{:else}<When at={key.signs_from} prefix="began " />{/if} · made by {key.made_by}
            </p>
          </div>
        {:else}<p>The first is made when it is first wanted.</p>{/each}
        {#if may('change')}<button
            class="btn btn-sm mt-1"
            disabled={acts.busy}
            onclick={() => rollOver(environment)}>Roll over signing key</button
          >
          <p class="help mt-1">
            It is shown for a minute before it signs, and the old one stays shown until the last
            token it signed has expired. No token is refused meanwhile.
          </p>{/if}
      </section>
    </div>
  </div>
{/if}
