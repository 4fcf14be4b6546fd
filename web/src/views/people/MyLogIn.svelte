<script lang="ts">
  import MyFactors from './MyFactors.svelte'
  import MyPassword from './MyPassword.svelte'
  import MySessions from './MySessions.svelte'
</script>

<svelte:head><title>My log-in · Neat Latch</title></svelte:head>
<h1 class="mb-3">My log-in</h1>
<div class="flex max-w-3xl flex-col gap-4">
  <MyFactors />
  <MySessions />
  <MyPassword />
</div>
