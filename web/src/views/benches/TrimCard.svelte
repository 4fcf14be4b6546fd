<script lang="ts">
  import type { Schemas } from '../../api/client'

  let { trim, word, workloads }: { trim: Schemas['TrimOut']; word: string; workloads: number } =
    $props()
</script>

<section class="sheet p-4" aria-labelledby="trim">
  <header class="flex items-baseline">
    <h2 id="trim">The trim</h2>
    {#if workloads}<span
        class="help ms-auto"
        title="read 1, write 3, admin 10, and 0.25 where an administrator must consent"
        >weight {trim.weight}, held {trim.held_weight}</span
      >{/if}
  </header>
  <p class="help mb-1">The {word}s of least weight that still do the work.</p>
  {#each trim.kept as kept (kept.scope)}
    <details class="border-base-300 border-t py-1">
      <summary class="min-h-[24px] cursor-pointer"
        ><span class="value font-semibold">{kept.scope}</span>
        <span class="text-soft"
          >needed by {[...new Set(kept.needed_by.map((each) => each.workload))]
            .slice(0, 2)
            .join(', ')}{new Set(kept.needed_by.map((each) => each.workload)).size > 2
            ? ` and ${new Set(kept.needed_by.map((each) => each.workload)).size - 2} more`
            : ''}</span
        ></summary
      >
      {#each kept.needed_by as each, at (at)}<p class="help">
          {each.workload}: <span class="value">{each.operation}</span>
        </p>{/each}
    </details>
  {:else}{#if workloads}<p>No workload calls anything that requires a {word}.</p>{/if}{/each}
  {#if trim.missing.length}<p class="text-error mt-2 font-semibold">
      Missing: <span class="value">{trim.missing.join(' ')}</span>
    </p>{/if}
  {#if !workloads}<p class="help mt-2">
      Its connections have no workload, so what could go is not known. Add the workloads that use
      them, with the operations they call.
    </p>{:else if trim.can_go.length}<p class="text-warning mt-2 font-semibold">
      Could go: <span class="value">{trim.can_go.join(' ')}</span>
    </p>{/if}
  {#each trim.impossible as kept, at (at)}<p class="text-error mt-2 font-semibold">
      The application has no {word} for what {kept.workload} uses:
      <span class="value">{kept.operation}</span>.
    </p>{/each}
  {#if !trim.missing.length && !trim.can_go.length && !trim.impossible.length && trim.kept.length}<p
      class="text-success mt-2 font-semibold"
    >
      What is permitted is exactly that.
    </p>{/if}
</section>
