<script lang="ts">
  import type { Rung, Test } from '../api/client'
  import { millis } from './time'
  import { RUNGS } from './words'

  let { test }: { test: Test | null } = $props()
  const rungs = $derived((test?.rungs ?? []) as unknown as Rung[])
  const running = $derived(test?.state === 'running' || test?.state === 'waiting')
</script>

<ol aria-label="Rungs of the ladder" data-test-state={test?.state ?? 'none'}>
  {#each RUNGS as [key, name], place (key)}
    {@const rung = rungs.find((rung) => rung.rung === key)}
    {@const now = running && place === rungs.length}
    <li class="grid grid-cols-[18px_66px_minmax(0,1fr)_auto] gap-x-2 py-1" data-rung={key}>
      {#if rung}
        <span
          class={rung.skipped ? 'text-soft' : rung.passed ? 'text-success' : 'text-error'}
          aria-hidden="true">{rung.skipped ? '○' : rung.passed ? '✓' : '✕'}</span
        >
        <span class="font-bold"
          >{name}<span class="sr-only"
            >{rung.skipped ? ' nothing to try: ' : rung.passed ? ' passed: ' : ' failed: '}</span
          ></span
        >
        <span class="text-soft wrap-anywhere {rung.passed ? '' : 'text-error'}"
          >{rung.says}{#if rung.tries > 1}&nbsp;({rung.tries} tries){/if}</span
        >
        <span class="value text-end">{millis(rung.ms)}</span>
      {:else}
        <span class="text-soft" aria-hidden="true">{now ? '…' : '·'}</span>
        <span class="text-soft">{name}</span>
        <span class="text-soft"
          >{now
            ? test?.state === 'waiting'
              ? 'waiting for the worker'
              : 'trying'
            : 'not tried'}</span
        >
        <span></span>
      {/if}
    </li>
  {/each}
</ol>
