<script lang="ts">
  /** The safe of Neat Latch itself: the versions of its key, and its last backup. */
  import { createQuery } from '@tanstack/svelte-query'
  import { api, ok } from '../../api/client'
  import Loading from '../../lib/Loading.svelte'
  import When from '../../lib/When.svelte'
  import { grouped } from '../../lib/words'

  const found = createQuery(() => ({
    queryKey: ['safe'],
    queryFn: () => ok(api.GET('/api/safe')),
  }))
</script>

<svelte:head><title>Safe · Neat Latch</title></svelte:head>
<header class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
  <h1>Safe</h1>
  <span class="help">the key that secrets are sealed with, and backups of the database</span>
</header>
<Loading query={found} />
{#if found.data}
  {@const safe = found.data}
  <div class="grid max-w-5xl grid-cols-1 items-start gap-4 lg:grid-cols-2">
    <section class="sheet p-4" aria-labelledby="key-title">
      <h2 id="key-title">Key</h2>
      {#each safe.versions as version (version.number)}
        <p class="flex min-h-[28px] items-baseline gap-3">
          <strong>Version {version.number}</strong>
          <span class={version.in_use ? 'text-success font-semibold' : 'text-soft'}
            >{version.in_use ? 'in use' : 'opens older values'}</span
          >
          <span class="text-soft ms-auto"
            >{#if version.since}since <When at={version.since} />{:else}the first{/if}</span
          >
        </p>
      {/each}
      <p class="mt-2">
        {#if safe.rekeyed_at}Values were last sealed again <When at={safe.rekeyed_at} />:
          {grouped(safe.rekeyed_values)}{safe.rekeyed_lost
            ? `; ${safe.rekeyed_lost} could not be opened`
            : ', and each could be opened'}.{:else}The key has never been changed.{/if}
      </p>
      <p class="help mt-2">
        A new key is brought into use, and every value sealed with it, while everything runs:
        <span class="value">nlatch safe rekey</span>. Older versions are then taken out by
        <span class="value">nlatch safe drop-old</span>.
      </p>
    </section>
    <section class="sheet p-4" aria-labelledby="backup-title">
      <h2 id="backup-title">Backup</h2>
      {#if safe.backup_at}
        <p>The last was made <When at={safe.backup_at} />.</p>
        <p
          class={safe.backup_opened
            ? 'text-success'
            : safe.backup_opened === false
              ? 'text-error font-semibold'
              : 'text-warning'}
        >
          {safe.backup_opened
            ? 'It was restored on trial, and opens.'
            : safe.backup_opened === false
              ? `Restored on trial, it does not open: ${safe.backup_says}`
              : 'It was not restored on trial.'}
        </p>
      {:else}<p class="text-warning font-semibold">No backup has been made.</p>{/if}
      <p class="mt-2">
        {#if safe.backups_folder}By schedule: every {safe.backup_hours} hours to
          <span class="value">{safe.backups_folder}</span>; the last {safe.backups_kept} are kept.
        {:else}None are made by schedule. Set <span class="value">NEATLATCH_BACKUPS</span> to a
          folder, or run
          <span class="value">nlatch backup</span> yourself.{/if}
      </p>
      <p class="help mt-2">
        Keys are never in a backup: keep a copy of the key file elsewhere. A copy is tried with
        <span class="value">nlatch drill COPY --key KEYFILE</span>.
      </p>
    </section>
  </div>
{/if}
