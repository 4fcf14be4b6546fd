<script lang="ts">
  import { searchParams } from 'sv-router'
  import { api, ok } from '../../api/client'
  import EnvBadge from '../../lib/EnvBadge.svelte'
  import { choosing } from '../../lib/choosing.svelte'
  import ListPage from '../../lib/ListPage.svelte'
  import { paged } from '../../lib/paged.svelte'
  import { may } from '../../lib/session.svelte'
  import Tags from '../../lib/Tags.svelte'
  import { goto } from '../../router'
  import WorkloadForm from './WorkloadForm.svelte'
  import NextWindow from './NextWindow.svelte'

  const chosen = choosing('workloads')
  let words = $state(String(searchParams.get('words') ?? ''))
  let adding = $state(false)
  const found = paged(
    () => ['workloads', words],
    (cursor) => ok(api.GET('/api/workloads', { params: { query: { words, cursor } } })),
  )
</script>

<ListPage
  title="Workloads"
  list="workloads"
  bind:words
  placeholder="words, or env:staging warned:yes"
  query={found.query}
  rows={found.rows}
  key={(row) => row.id}
  choosing={chosen}
  named={(row) => row.name}
>
  {#snippet actions()}{#if may('change')}<button
        class="btn btn-primary btn-sm ms-auto"
        data-key="n"
        onclick={() => (adding = !adding)}
        >Add workload <kbd class="value text-[0.85em] opacity-80">N</kbd></button
      >{/if}{/snippet}
  {#snippet above()}{#if adding}<WorkloadForm
        done={(saved) => {
          adding = false
          if (saved) goto(`/workloads/${saved.id}`)
        }}
      />{/if}{/snippet}
  {#snippet head()}<th>Name</th><th>Kind</th><th>Environment</th><th>Owner</th><th>Runs</th><th
      >Uses</th
    ><th>Change windows</th><th>Warnings</th>{/snippet}
  {#snippet row(item)}
    <td
      ><a class="act" href="/workloads/{item.id}">{item.name}</a><Tags
        tags={item.tags}
        list="/workloads"
        most={3}
      /></td
    >
    <td>{item.kind}</td>
    <td><EnvBadge environment={item.environment} /></td>
    <td>{item.owner || '—'}</td>
    <td>{item.runs}</td>
    <td
      >{#each item.calls as call (call.id)}{#if call.connection}<a
            class="act value me-2"
            href="/connections/{call.connection}">{call.connection}</a
          >{:else}<span class="text-error me-2">{call.application_name}, none named</span
          >{/if}{:else}<span class="text-soft">nothing</span>{/each}{#if item.more_calls}<span
          class="text-soft">and {item.more_calls} more</span
        >{/if}</td
    >
    <td
      >{item.windows.join('; ') || 'any time'}{#if item.next_window}<br /><span class="help"
          ><NextWindow at={item.next_window} /></span
        >{/if}</td
    >
    <td class="text-error max-w-[22rem] font-semibold"
      >{item.warning}{#if item.warnings > 1}<br /><span class="help font-normal"
          >and {item.warnings - 1} more</span
        >{/if}</td
    >
  {/snippet}
  {#snippet empty()}
    <p class="mb-3">
      A workload is a job, report, script or agent that calls applications through a connection.
      Once its calls are recorded, Neat Latch says which workloads a change would stop, and which
      rights are not needed.
    </p>
    {#if may('change')}<button class="btn btn-primary" onclick={() => (adding = true)}
        >Add workload</button
      >{/if}
    {#if may('change')}<p class="help mt-3">
        <a class="act" href="/inventory?table=workloads">Import them from a spreadsheet</a>
      </p>{/if}
  {/snippet}
</ListPage>
