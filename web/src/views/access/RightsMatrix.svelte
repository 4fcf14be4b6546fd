<script lang="ts">
  import type { Schemas } from '../../api/client'

  let {
    access,
    chosen,
    choose,
  }: { access: Schemas['AccessOut']; chosen: number[]; choose: (rules: number[]) => void } =
    $props()
  const SIGNS: Record<string, string> = { yes: '✓', some: '◐', no: '·' }
  const WORDS: Record<string, string> = {
    yes: 'may',
    some: 'may from some addresses',
    no: 'may not',
  }
  function says(who: string, what: string, thing: string, cell: Schemas['RightOut']): string {
    const by = cell.rules.length
      ? `, by rule ${cell.rules.map((rule) => rule + 1).join(' and ')}`
      : ', no rule speaks of it'
    const from = cell.allowed_from.length ? ` (${cell.allowed_from.join(', ')})` : ''
    return `${who} ${WORDS[cell.verdict]} ${what} ${thing}${from}${by}`
  }
</script>

<section class="sheet" aria-labelledby="rights">
  <header class="border-base-300 flex items-baseline gap-4 border-b px-4 py-2">
    <h2 id="rights">Effective rights</h2>
    <p class="help" aria-hidden="true">✓ may&nbsp; ◐ from some addresses&nbsp; · may not</p>
    <p class="help ms-auto">press a cell to see the rule that decides</p>
  </header>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div
    class="max-h-[420px] overflow-auto"
    role="region"
    aria-label="The rights of each principal, to be scrolled"
    tabindex="0"
  >
    <table class="rows rights">
      <thead>
        <tr
          ><th rowspan="2">Principal</th>{#each access.resources as thing (thing)}<th
              class="value text-center"
              colspan={access.operations.length}>{thing}</th
            >{/each}</tr
        >
        <tr
          >{#each access.resources as thing (thing)}{#each access.operations as what (what)}<th
                class="text-center">{what.toLowerCase()}</th
              >{/each}{/each}</tr
        >
      </thead>
      <tbody>
        {#each access.principals as who, a (who)}
          <tr
            ><th scope="row" class="value">{who}</th
            >{#each access.resources as thing, b (thing)}{#each access.operations as what, c (what)}
                {@const cell = access.cells[a]![b]![c]!}
                <td class="!p-0 text-center"
                  ><button
                    type="button"
                    class="min-h-[30px] w-full min-w-[34px] {cell.verdict === 'yes'
                      ? 'text-success font-bold'
                      : cell.verdict === 'some'
                        ? 'text-warning font-bold'
                        : 'text-soft'} {cell.rules.some((rule) => chosen.includes(rule))
                      ? 'bg-wait-ground'
                      : ''}"
                    title={says(who, what, thing, cell)}
                    aria-label={says(who, what, thing, cell)}
                    onclick={() => choose(cell.rules)}>{SIGNS[cell.verdict]}</button
                  ></td
                >
              {/each}{/each}</tr
          >
        {:else}<tr><td>No principal is named yet.</td></tr>{/each}
      </tbody>
    </table>
  </div>
</section>

<style>
  .rights thead th {
    position: sticky;
    top: 0;
    background: var(--color-base-100);
    height: 28px;
  }
  .rights thead tr:nth-child(2) th {
    top: 28px;
  }
  .rights th[scope='row'] {
    color: var(--color-base-content);
    font-weight: 400;
  }
  .rights tr:last-child th {
    border-bottom: 0;
  }
</style>
