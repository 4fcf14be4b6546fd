<script lang="ts">
  /** From nothing to the first latched connection: what is done, and what comes next. */
  import type { Today } from '../../api/client'
  import { may } from '../../lib/session.svelte'

  let { today }: { today: Today } = $props()
  const first = $derived(today.wall.items[0])
  const ref = $derived(
    today.wall.items.flatMap((row) => Object.values(row.cells).flat()).map((cell) => cell.ref)[0],
  )
  const steps = $derived([
    {
      name: 'Add an application',
      says:
        'What it is called, and where it publishes how to sign in. Or describe it manually: the ' +
        'scheme, the addresses, the values it needs.',
      done: Boolean(first),
      href: '/applications/new',
      act: 'Add an application',
    },
    {
      name: 'Set up a connection into it',
      says:
        'Choose the environment and the scheme. The set-up says who does what at the ' +
        'application, and takes the values from what you paste.',
      done: Boolean(ref),
      href: first ? `/connections/new?application=${first.application}` : '',
      act: 'Set up a connection',
    },
    {
      name: 'Test it until it is latched',
      says:
        'Each pin shows what the application has and what we send. A test climbs the ladder and ' +
        'stops at the first rung that fails, with the cause.',
      done: false,
      href: ref ? `/connections/${ref}/set-up` : '',
      act: 'Go on with the set-up',
    },
  ])
  const next = $derived(steps.findIndex((step) => !step.done))
</script>

<section class="sheet mx-auto mt-6 mb-5 max-w-xl p-6" aria-labelledby="first-steps">
  <h1 id="first-steps">{first ? 'First steps' : 'Nothing is set up yet'}</h1>
  <p class="my-3">
    Here you will see every connection at a glance, and what will stop next. Three steps lead to the
    first one that works.
  </p>
  <ol class="flex flex-col gap-3">
    {#each steps as step, at (step.name)}
      <li
        class="grid grid-cols-[1.75rem_minmax(0,1fr)]"
        aria-current={at === next ? 'step' : undefined}
      >
        <span class={step.done ? 'text-success font-bold' : 'text-soft font-bold'}
          >{step.done ? '✓' : at + 1}<span class="sr-only">{step.done ? ' done' : ''}</span></span
        >
        <div>
          <p class={at === next ? 'font-bold' : step.done ? 'text-soft' : ''}>{step.name}</p>
          {#if at === next}
            <p class="text-soft">{step.says}</p>
            {#if may('change')}<a class="btn btn-primary btn-sm mt-2" href={step.href} data-key="n"
                >{step.act}</a
              >{:else}<p class="help">An administrator can do this.</p>{/if}
          {/if}
        </div>
      </li>
    {/each}
  </ol>
  {#if !first && may('change')}<p class="help mt-4">
      Is it all in a spreadsheet, or in a file of another Neat Latch?
      <a class="act" href="/inventory?table=applications">Import a table</a>
    </p>{/if}
</section>
