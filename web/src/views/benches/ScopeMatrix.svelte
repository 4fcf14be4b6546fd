<script lang="ts">
  import type { Schemas } from '../../api/client'
  import { CELL_SIGNS, CELL_WORDS, columnWidth, rowWords, type CellKind } from '../../lib/matrix'

  let { bench }: { bench: Schemas['MatrixOut'] } = $props()
  let width = $state(900)
  let over = $state<[number, number] | null>(null)
  const column = $derived(columnWidth(bench.columns.length, width - 560))
  const several = $derived(bench.connections.length > 1)
  const shown = $derived(
    over ? { row: bench.rows[over[0]], column: bench.columns[over[1]], kind: bench.rows[over[0]]?.cells[over[1]] } : null,
  )
  const yes = (on: boolean, implied = false) => (on ? '✓' : implied ? '(✓)' : '·')
</script>

<section class="sheet" aria-labelledby="matrix" bind:clientWidth={width}>
  <header class="border-base-300 flex items-baseline gap-4 border-b px-4 py-2">
    <h2 id="matrix">{bench.rows.length} {bench.word}s × {bench.columns.length} users</h2>
    <p class="help" aria-hidden="true">● needs it&nbsp; ✗ is stopped without it&nbsp; ○ it would serve</p>
    <p class="help ms-auto truncate" aria-hidden="true">
      {#if shown?.row && shown.column}{shown.column.name}
        {CELL_WORDS[(shown.kind ?? '') as CellKind]}: {shown.row.name}{/if}
    </p>
  </header>
  <!-- The head and the first column stay in sight while sixty rows and forty columns move. -->
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="max-h-[560px] overflow-auto" role="region" aria-labelledby="matrix" tabindex="0">
    <table class="matrix">
      <thead>
        <tr>
          <th class="name">{bench.word}</th>
          <th>permitted</th><th>asked for</th><th>granted</th><th>consent</th><th>trim</th>
          {#each bench.columns as one, at (one.user + one.ref + at)}
            <th class="user" style:min-width="{column}px" style:width="{column}px"
              ><a href="/users/{one.user}" title="{one.name}, {one.ref}: {one.operations.join(', ')}"><span>{one.name}</span></a
              ></th
            >
          {/each}
        </tr>
      </thead>
      <tbody>
        {#each bench.rows as row, at (row.name)}
          <tr class={row.in_trim ? 'kept' : ''} aria-label={rowWords(row.name, row.cells, bench.columns)}>
            <th scope="row" class="name" title={row.meaning}
              ><span class="value">{row.name}</span>
              <span class="help">{row.known ? row.kind : 'not in the profile'}</span></th
            >
            <td title={row.implied ? 'brought by another that is permitted' : ''}>{yes(row.permitted, row.implied)}</td>
            <td>{several ? row.requested.length || '·' : yes(row.requested.length > 0)}</td>
            <td>{several ? row.granted.length || '·' : yes(row.granted.length > 0)}</td>
            <td
              class={row.consent_state === 'wanted' && row.permitted ? 'text-error font-semibold' : ''}
              title={row.consent ? `${row.consent.who}` : ''}
              >{{ person: 'the person', given: 'given', asked: 'asked', wanted: row.permitted ? 'not given' : 'wanted' }[
                row.consent_state
              ]}</td
            >
            <td class={row.in_trim ? 'text-success font-bold' : ''}
              >{row.in_trim ? 'keep' : row.permitted || row.requested.length ? 'can go' : ''}</td
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
                title="{bench.columns[place]?.name} {CELL_WORDS[cell as CellKind]}"
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
  }
  .matrix thead .name {
    z-index: 3;
  }
  .matrix .kept .name {
    font-weight: 700;
  }
  .matrix .user {
    height: 128px;
    padding: 0;
  }
  .matrix .user a {
    display: flex;
    align-items: center;
    justify-content: flex-start;
    height: 126px;
    width: 100%;
    padding: 0 0 6px 4px;
    writing-mode: vertical-rl;
    transform: rotate(180deg);
    color: var(--color-base-content);
  }
  .matrix .user span {
    overflow: hidden;
    text-overflow: ellipsis;
    max-height: 118px;
  }
  .matrix .cell {
    padding: 0;
    text-align: center;
  }
</style>
