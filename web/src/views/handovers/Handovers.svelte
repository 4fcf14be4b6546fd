<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok, Problem } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import CodeField from '../../lib/CodeField.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import SubNav from '../../lib/SubNav.svelte'
  import When from '../../lib/When.svelte'

  const acts = acting('credential')
  const list = createQuery(() => ({
    queryKey: ['handovers'],
    queryFn: () => ok(api.GET('/api/handovers')),
  }))
  const permits = createQuery(() => ({
    queryKey: ['revealing'],
    queryFn: () => ok(api.GET('/api/revealing')),
  }))
  const errors = $derived(acts.problem instanceof Problem ? acts.problem.errors : {})
  const FORMS: Record<string, string> = {
    shown: 'shown once',
    link: 'link',
    file: 'encrypted file',
  }
  /** The environment that is to permit it, while a code is asked for. */
  let permitting = $state('')
  let code = $state('')
  const permit = (environment: string, reveals: boolean) =>
    acts.run(async () => {
      await ok(
        api.PUT('/api/revealing/{environment}', {
          params: { path: { environment } },
          body: { reveals, code },
        }),
      )
      permitting = ''
      code = ''
    })
  const withCode = (event: Event) => {
    event.preventDefault()
    void permit(permitting, true)
  }
</script>

<svelte:head><title>Handovers · Neat Latch</title></svelte:head>
<SubNav group="credentials" />
<header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
  <h1>Handovers</h1>
  <span class="help">the one moment when a new secret is shown, and who took it</span>
</header>
<Loading query={list} />
{#if acts.problem && !errors.code}<div class="mb-3"><ProblemBox problem={acts.problem} /></div>{/if}
<div class="grid grid-cols-1 lg:grid-cols-[minmax(0,1fr)_300px] items-start gap-4">
  {#if list.data?.length}
    <div class="sheet overflow-x-auto">
      <table class="rows">
        <thead
          ><tr
            ><th>Secret</th><th>Client</th><th>Form</th><th>For</th><th>Made</th><th>State</th><th
              >Taken</th
            ></tr
          ></thead
        >
        <tbody>
          {#each list.data as entry (entry.id)}
            <tr data-row>
              <td class="value whitespace-nowrap">{entry.hint}</td>
              <td
                >{#if entry.client}<a class="act" href="/clients/{entry.client}"
                    >{entry.client_name}</a
                  >{:else}{entry.client_name}{/if}<br /><span class="text-soft"
                  >{entry.application}, {entry.environment}</span
                ></td
              >
              <td class="whitespace-nowrap">{FORMS[entry.form]}</td><td>{entry.to || '—'}</td>
              <td><When at={entry.made} /> by {entry.made_by}</td>
              <td
                class={entry.state === 'not taken'
                  ? 'text-error font-semibold'
                  : entry.state === 'waits'
                    ? 'text-warning font-semibold'
                    : ''}
                >{entry.state}{#if entry.state === 'not taken'}<br /><span class="help font-normal"
                    >{entry.outcome}</span
                  >{:else if entry.state === 'waits' && entry.ends}<br /><span
                    class="help font-normal"
                    ><When at={entry.ends} prefix="revoked " /> if nobody takes it</span
                  >{/if}</td
              >
              <td
                >{#if entry.taken}<When at={entry.taken} />{entry.taken_by
                    ? ` by ${entry.taken_by}`
                    : ''}{#if entry.taken_from}<br /><span class="value text-soft"
                      >from {entry.taken_from}</span
                    >{/if}{:else}—{/if}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else if list.data}<p class="sheet max-w-xl p-6">
      Receipts appear here when a secret is handed over: by whom, to whom, when, and by which of the
      three ways.
    </p>{/if}
  <aside class="sheet p-4">
    <h2 class="mb-1">Showing a stored secret again</h2>
    <p class="help mb-2">
      Secrets that are sealed for our own connections can be shown to an administrator, with a fresh
      second factor and a reason, where the environment permits it.
    </p>
    {#each permits.data ?? [] as entry (entry.environment)}
      <p class="flex min-h-[28px] items-center gap-2">
        <span>{entry.name}: <strong>{entry.reveals ? 'permitted' : 'not permitted'}</strong></span>
        {#if may('change') && permitting !== entry.environment}<button
            class="act ms-auto"
            disabled={acts.busy}
            aria-label="{entry.reveals ? 'Forbid' : 'Permit'} it in {entry.name}"
            onclick={() =>
              entry.reveals
                ? void permit(entry.environment, false)
                : (permitting = entry.environment)}>{entry.reveals ? 'Forbid' : 'Permit'}</button
          >{/if}
      </p>
      {#if permitting === entry.environment}
        <form class="mb-2" onsubmit={withCode}>
          <CodeField id="permit-code" stored error={errors.code} bind:value={code} />
          <button class="btn btn-primary btn-sm" disabled={acts.busy}>Permit showing</button>
          <button type="button" class="btn btn-sm" onclick={() => ((permitting = ''), (code = ''))}
            >Cancel</button
          >
        </form>
      {/if}
    {/each}
  </aside>
</div>
