<script lang="ts">
  import NotThere from '../lib/NotThere.svelte'
</script>

<svelte:head><title>No such page · Neat Latch</title></svelte:head>
<NotThere title="There is no such page" says="It may have been renamed or removed." />
