<script lang="ts">
  /** In place of a page of which there is nothing: what is missing, why, and where to go on for
   * those who are logged in. */
  import { route } from '../router'
  import { MORE, SECTIONS, sectionOf } from './sections'
  import { session } from './session.svelte'

  let {
    title,
    says,
    candidates = [],
  }: { title: string; says: string; candidates?: string[] } = $props()
  const above = $derived(
    [...SECTIONS, ...MORE].find(
      (section) => section.address === sectionOf(String(route.pathname)),
    ) ?? SECTIONS[0]!,
  )
</script>

<section class="sheet mx-auto mt-10 max-w-xl p-6" role="alert">
  <h1>{title}</h1>
  <p class="my-3">{says}</p>
  {#if candidates.length}<ul class="mb-3">
      {#each candidates as reference (reference)}<li>
          <a class="act value" href="/connections/{reference}">{reference}</a>
        </li>{/each}
    </ul>{/if}
  {#if session.who}<a class="btn btn-primary" href={above.address}>To {above.name}</a>{/if}
</section>
