<script lang="ts">
  /** The tags of an object, each a link to the rows of a list that have it too. */
  let { tags, list, most = 20 }: { tags: string[]; list: string; most?: number } = $props()
</script>

{#each tags.slice(0, most) as tag (tag)}<a
    class={[
      'bg-quiet-ground ms-1 inline-block rounded-md px-1.5 text-[0.9em]',
      'whitespace-nowrap hover:underline',
    ]}
    href="{list}?words=tag:{tag}">{tag}</a
  >{/each}{#if tags.length > most}<span class="help ms-1" title={tags.slice(most).join(' ')}
    >+{tags.length - most}</span
  >{/if}
