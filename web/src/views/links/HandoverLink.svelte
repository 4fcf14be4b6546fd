<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query'
  import { onDestroy } from 'svelte'
  import { api, ok } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import Copy from '../../lib/Copy.svelte'
  import Field from '../../lib/Field.svelte'
  import Loading from '../../lib/Loading.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import When from '../../lib/When.svelte'

  let { token }: { token: string } = $props()
  const path = $derived({ path: { token } })
  const found = createQuery(() => ({
    queryKey: ['asked-handover', token],
    queryFn: () => ok(api.GET('/api/links/handovers/{token}', { params: path })),
  }))
  let form = $state({ code: '', name: '' })
  let value = $state('')
  let taken = $state(false)
  let timer = 0
  const acts = acting('asked')
  const errors = $derived(acts.errors)

  async function take(event: Event): Promise<void> {
    event.preventDefault()
    await acts.run(async () => {
      const shown = await ok(
        api.POST('/api/links/handovers/{token}/retrievals', { params: path, body: form }),
      )
      value = shown.value
      taken = true
      timer = window.setTimeout(() => (value = ''), shown.hide_after_seconds * 1000)
    })
    if (!acts.problem) return
    form.code = ''
    await found.refetch()
  }
  onDestroy(() => clearTimeout(timer))
</script>

<svelte:head><title>A secret for you · Neat Latch</title></svelte:head>
<main class="mx-auto max-w-2xl px-5 py-10">
  <Loading query={found} />
  {#if found.data}
    {@const asked = found.data}
    <h1 class="mb-2">A secret for {asked.to}</h1>
    <p class="mb-4">
      {asked.made_by} hands over a secret of <strong>{asked.client}</strong> at {asked.application},
      {asked.environment}.
    </p>
    {#if value}
      <section class="sheet border-secondary border-2 p-4">
        <p class="mb-2">
          This is the only time it is shown. It hides after a minute; put it where it belongs now.
        </p>
        <p class="bg-base-200 value mb-2 rounded-md px-3 py-2 text-[1.1rem]" data-secret>{value}</p>
        <div class="flex gap-2">
          <Copy text={value} what="the secret" />
          <button type="button" class="btn btn-primary btn-sm" onclick={() => (value = '')}
            >I have it</button
          >
        </div>
      </section>
    {:else if taken}
      <p role="status" class="bg-slate-ground rounded-md px-3 py-2">
        You took it. Nobody can see it again; you can close this page.
      </p>
    {:else if asked.over}
      <p role="status" class="bg-bad-ground rounded-md px-3 py-2">
        This link was used, or has expired. If it was not you, tell {asked.made_by} immediately.
      </p>
      <ProblemBox problem={acts.problem} />
    {:else}
      <form class="sheet p-4" onsubmit={take}>
        <Field
          id="code"
          label="The code you were given"
          error={errors.code}
          help="Eight digits, by another channel than this link."
        >
          <input
            id="code"
            class="line-in value"
            inputmode="numeric"
            autocomplete="off"
            bind:value={form.code}
            required
          />
        </Field>
        <Field id="name" label="Your name" error={errors.name} help="The receipt gives it.">
          <input
            id="name"
            class="line-in"
            autocomplete="name"
            bind:value={form.name}
            required
            maxlength="200"
          />
        </Field>
        {#if !errors.code && !errors.name}<ProblemBox problem={acts.problem} />{/if}
        <button class="btn btn-primary btn-sm" disabled={!form.code.trim() || !form.name.trim()}
          >Show it to me, this once</button
        >
        <p class="help mt-2">
          <When at={asked.ends} prefix="The link expires " /> and serves once.
        </p>
      </form>
    {/if}
  {/if}
</main>
