<script lang="ts">
  /** In place of a page of which there is nothing: what is missing, why, and where to go on. */
  import { route } from '../router'
  import { MORE, SECTIONS, sectionOf } from './sections'

  let { title, says }: { title: string; says: string } = $props()
  const above = $derived(
    [...SECTIONS, ...MORE].find((one) => one.address === sectionOf(String(route.pathname))) ??
      SECTIONS[0]!,
  )
</script>

<section class="sheet mx-auto mt-10 max-w-xl p-6" role="alert">
  <h1>{title}</h1>
  <p class="my-3">{says}</p>
  <a class="btn btn-primary" href={above.address}>To {above.name}</a>
</section>
