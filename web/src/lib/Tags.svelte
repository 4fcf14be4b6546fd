<script lang="ts">
  /** The tags of an object, each a link to the rows of a list that have it too. */
  let { tags, list }: { tags: string[]; list: string } = $props()
</script>

{#each tags as tag (tag)}<a
    class="bg-quiet-ground ms-1 inline-block rounded-md px-1.5 text-[0.9em] whitespace-nowrap hover:underline"
    href="{list}?words=tag:{tag}">{tag}</a
  >{/each}
