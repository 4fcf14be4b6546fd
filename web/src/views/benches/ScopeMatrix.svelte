<script lang="ts">
  import type { Schemas } from '../../api/client'
  import {
    CELL_SIGNS,
    CELL_WORDS,
    columnWidth,
    consentSign,
    consentWords,
    rowWords,
    type CellKind,
  } from '../../lib/matrix'

  let { bench, compact = false }: { bench: Schemas['MatrixOut']; compact?: boolean } = $props()
  let width = $state(900)
  let over = $state<[number, number] | null>(null)
  const column = $derived(columnWidth(bench.columns.length, width - (compact ? 284 : 560)))
  /** Whether a scope can go; while no workload is recorded, nobody can say so. */
  const goes = (row: Schemas['MatrixOut']['rows'][number]) =>
    bench.columns.length > 0 && (row.permitted || row.requested.length > 0)
  const several = $derived(bench.connections.length > 1)
  const shown = $derived(
    over
      ? {
          row: bench.rows[over[0]],
          column: bench.columns[over[1]],
          kind: bench.rows[over[0]]?.cells[over[1]],
        }
      : null,
  )
  const HEADS = ['permitted', 'requested', 'granted', 'consent', 'trim']
  const yes = (on: boolean, implied = false) => (on ? '✓' : implied ? '(✓)' : '·')
  const some = (refs: string[]) => (several ? String(refs.length || '·') : yes(refs.length > 0))
</script>

<section class="sheet" aria-labelledby="matrix" bind:clientWidth={width}>
  <header class="border-base-300 flex items-baseline gap-4 border-b px-4 py-2">
    <h2 id="matrix" class="whitespace-nowrap">
      {bench.rows.length}
      {bench.word}s × {bench.columns.length} workloads
    </h2>
    <p class="help whitespace-nowrap" aria-hidden="true">
      ● needs it&nbsp; ✗ is stopped without it&nbsp; ○ it would serve
    </p>
    <p class="ms-auto truncate font-semibold" aria-hidden="true">
      {#if shown?.row && shown.column}{shown.column.name}
        {CELL_WORDS[(shown.kind ?? '') as CellKind]}:
        <span class="value">{shown.row.name}</span>{/if}
    </p>
  </header>
  <!-- The head and the first column stay in sight while sixty rows and forty columns move. -->
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div
    class="overflow-auto {compact ? 'max-h-[calc(100vh-170px)]' : 'max-h-[560px]'}"
    role="region"
    aria-label="The matrix, to be scrolled"
    tabindex="0"
  >
    <table class="matrix {compact ? 'compact' : ''}">
      <thead>
        <tr>
          <th class="name">{bench.word}</th>
          {#each HEADS as head (head)}<th class={compact ? 'workload' : ''}
              >{#if compact}<span class="turned"><span>{head}</span></span>{:else}{head}{/if}</th
            >{/each}
          {#each bench.columns as entry, at (entry.workload + entry.ref + at)}
            <th class="workload" style:min-width="{column}px" style:width="{column}px"
              ><a
                class="turned"
                href="/workloads/{entry.workload}"
                title="{entry.name}, {entry.ref}: {entry.operations.join(', ')}"
                ><span>{entry.name}</span></a
              ></th
            >
          {/each}
        </tr>
      </thead>
      <tbody>
        {#each bench.rows as row, at (row.name)}
          <tr
            class={row.in_trim ? 'kept' : ''}
            aria-label={rowWords(row.name, row.cells, bench.columns)}
          >
            <th scope="row" class="name" title="{row.name}: {row.meaning || row.kind}"
              ><span class="value">{row.name}</span>
              {#if !compact}<span class="help">{row.known ? row.kind : 'not in the profile'}</span
                >{/if}</th
            >
            <td title={row.implied ? 'brought by another that is permitted' : ''}
              >{compact && row.implied ? '↳' : yes(row.permitted, row.implied)}</td
            >
            <td title={row.requested.join(', ')}>{some(row.requested)}</td>
            <td title={row.granted.join(', ')}>{some(row.granted)}</td>
            <td
              class={row.consent_state === 'wanted' && row.permitted
                ? 'text-error font-semibold'
                : ''}
              title={row.consent
                ? `given by ${row.consent.who}`
                : consentWords(row.consent_state, row.permitted)}
              >{#if compact}<span aria-hidden="true"
                  >{consentSign(row.consent_state, row.permitted)}</span
                ><span class="sr-only">{consentWords(row.consent_state, row.permitted)}</span
                >{:else}{consentWords(row.consent_state, row.permitted)}{/if}</td
            >
            <td class={row.in_trim ? 'text-success font-bold' : 'text-soft'}
              >{#if compact}<span aria-hidden="true"
                  >{row.in_trim ? '✓' : goes(row) ? '−' : ''}</span
                ><span class="sr-only">{row.in_trim ? 'keep' : goes(row) ? 'can go' : ''}</span
                >{:else}{row.in_trim ? 'keep' : goes(row) ? 'can go' : ''}{/if}</td
            >
            {#each row.cells as cell, place (place)}
              <td
                class="cell {cell === 'lacks'
                  ? 'text-error bg-bad-ground font-bold'
                  : cell === 'needed'
                    ? 'text-success'
                    : 'text-soft'}"
                onmouseenter={() => (over = [at, place])}
                onmouseleave={() => (over = null)}
                ><span aria-hidden="true">{CELL_SIGNS[cell as CellKind]}</span><span class="sr-only"
                  >{cell ? CELL_WORDS[cell as CellKind] : ''}</span
                ></td
              >
            {/each}
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
</section>

<style>
  .matrix {
    border-collapse: separate;
    border-spacing: 0;
    min-width: 100%;
  }
  .matrix th,
  .matrix td {
    height: 26px;
    padding: 0 0.5rem;
    text-align: start;
    white-space: nowrap;
    border-bottom: 1px solid var(--color-base-300);
    font-weight: 400;
  }
  .matrix thead th {
    position: sticky;
    top: 0;
    z-index: 2;
    background: var(--color-base-100);
    color: var(--color-soft);
    vertical-align: bottom;
    font-weight: 600;
  }
  .matrix .name {
    position: sticky;
    left: 0;
    z-index: 1;
    background: var(--color-base-100);
    min-width: 190px;
    width: 100%;
  }
  .matrix thead .name {
    z-index: 3;
  }
  .matrix .kept .name {
    font-weight: 700;
  }
  .matrix .workload {
    height: 152px;
    padding: 0;
  }
  .matrix .turned {
    display: flex;
    align-items: center;
    justify-content: flex-start;
    height: 150px;
    width: 100%;
    padding: 0 0 6px 4px;
    writing-mode: vertical-rl;
    transform: rotate(180deg);
    color: var(--color-base-content);
  }
  .matrix .turned > span {
    overflow: hidden;
    text-overflow: ellipsis;
    max-height: 140px;
  }
  .matrix.compact td,
  .matrix.compact th {
    height: 21px;
  }
  .matrix.compact td {
    padding: 0;
    text-align: center;
  }
  .matrix.compact .workload {
    height: 152px;
    min-width: 24px;
  }
  .matrix.compact .name {
    min-width: 144px;
    max-width: 144px;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .matrix .cell {
    padding: 0;
    text-align: center;
  }
</style>
