<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Loading from '../../lib/Loading.svelte'
  import NotesCard from '../../lib/NotesCard.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import { capital } from '../../lib/words'
  import { goto, param } from '../../router'
  import OwnerForm from './OwnerForm.svelte'

  const id = $derived(param('id'))
  const found = createQuery(() => ({
    queryKey: ['owner', id],
    queryFn: () =>
      ok(api.GET('/api/owners/{identity}', { params: { path: { identity: Number(id) } } })),
  }))
  const acts = acting('owner')
  let editing = $state(false)
  const remove = () =>
    acts.run(async () => {
      await ok(api.DELETE('/api/owners/{identity}', { params: { path: { identity: Number(id) } } }))
      goto('/owners')
    })
  const time = (zone: string) =>
    new Intl.DateTimeFormat('en-GB', {
      timeZone: zone,
      hour: '2-digit',
      minute: '2-digit',
      weekday: 'short',
    }).format(new Date())
</script>

<svelte:head><title>{found.data?.owner.name ?? 'Owner'} · Neat Latch</title></svelte:head>
<Loading query={found} />
{#if found.data}
  {@const owner = found.data.owner}
  {@const things = found.data.things}
  {@const all = owner.applications + owner.workloads + owner.credentials}
  <header class="mb-3 flex flex-wrap items-center gap-x-4">
    <h1>{owner.name}</h1>
    <span class="text-soft"
      >{owner.kind === 'contact' ? 'a contact outside' : `a ${owner.kind}`}</span
    >
    {#if found.data.username}<a class="act" href="/people/{found.data.username}"
        >Everything of theirs</a
      >{/if}
    <a class="act ms-auto" href="/owners">All owners</a>
  </header>
  <div class="mb-3"><ProblemBox problem={acts.problem} /></div>
  {#if editing}{#key owner.version}<OwnerForm {owner} done={() => (editing = false)} />{/key}{/if}
  <div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_356px] items-start gap-4">
    <section class="sheet" aria-labelledby="things">
      <h2 id="things" class="border-base-300 border-b px-4 py-2">
        {things.length ? 'What is theirs' : 'Nothing is theirs'}
        {#if all > things.length}<span class="help font-normal"
            >{things.length} of {all} are shown; filter the lists by “owner:” for the others</span
          >{/if}
      </h2>
      {#if things.length}
        <table class="rows">
          <thead><tr><th>What</th><th>Name</th><th>Where</th></tr></thead>
          <tbody>
            {#each things as thing (thing.address)}
              <tr data-row>
                <td>{capital(thing.what)}</td>
                <td><a class="act" href={thing.address}>{thing.name}</a></td>
                <td>{thing.says}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      {:else}<p class="px-4 py-3">
          No application, workload or credential is said to be theirs.
        </p>{/if}
    </section>
    <div class="flex flex-col gap-4">
      <section class="sheet p-4" aria-labelledby="reached">
        <h2 id="reached" class="mb-1">How they are reached</h2>
        <dl class="grid grid-cols-[7rem_1fr] gap-x-3 gap-y-1">
          <dt class="text-soft">Mail</dt>
          <dd>
            {#if owner.mail}<a class="act" href="mailto:{owner.mail}">{owner.mail}</a>{:else}not
              recorded{/if}
          </dd>
          <dt class="text-soft">Time zone</dt>
          <dd>
            {owner.zone ? `${owner.zone}, there it is ${time(owner.zone)}` : 'not recorded'}
          </dd>
          <dt class="text-soft">Deputy</dt>
          <dd>{owner.deputy_name || 'nobody'}</dd>
        </dl>
        {#if may('change')}
          <p class="mt-3 flex gap-3">
            <button class="btn btn-sm" data-key="e" onclick={() => (editing = !editing)}
              >Change</button
            >
            {#if owner.kind === 'contact' && !things.length}<button
                class="btn btn-sm"
                disabled={acts.busy}
                onclick={remove}>Remove contact</button
              >{/if}
          </p>
        {/if}
      </section>
      {#key owner.id}<NotesCard of="owners" id={String(owner.id)} />{/key}
    </div>
  </div>
{/if}
