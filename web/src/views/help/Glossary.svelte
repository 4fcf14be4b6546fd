<script lang="ts">
  /** The words that Neat Latch uses, each with a sentence. */
  import text from '../../../../docs/glossary.md?raw'
  import { found, read } from '../../lib/glossary'

  const groups = read(text)
  let words = $state('')
  const shown = $derived(found(groups, words))
</script>

<svelte:head><title>Glossary · Neat Latch</title></svelte:head>
<header class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  <h1>Glossary</h1>
  <input
    class="line-in max-w-xs"
    type="search"
    aria-label="Find a term"
    placeholder="a term, or words of its sentence"
    bind:value={words}
  />
</header>
<div class="grid max-w-6xl grid-cols-1 items-start gap-4 lg:grid-cols-2">
  {#each shown as group (group.title)}
    <section class="sheet p-4" aria-label={group.title}>
      <h2 class="mb-2">{group.title}</h2>
      <dl>
        {#each group.terms as term (term.name)}
          <dt class="mt-2 font-semibold">{term.name}</dt>
          <dd>{term.says}</dd>
        {/each}
      </dl>
    </section>
  {:else}<p class="sheet p-5">No term has these words.</p>{/each}
</div>
