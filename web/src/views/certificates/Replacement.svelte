<script lang="ts">
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'
  import { day } from '../../lib/time'

  let { house }: { house: Schemas['HouseCertificates'] } = $props()
  const acts = acting('certificate', 'house')
  const environment = $derived(house.environment.key)
  const path = $derived({ params: { path: { environment } } })
  const begun = $derived(house.steps[0]?.state !== 'now')
  const old = $derived(house.authorities.find((authority) => authority.state !== 'retired'))
  const fresh = $derived(house.authorities.filter((authority) => authority.state !== 'retired')[1])
  let open = $state(false)
  const make = () =>
    acts.run(() => ok(api.POST('/api/certificate-authorities/{environment}/replacements', path)))
  const change = (new_: boolean) =>
    acts.run(() =>
      ok(
        api.POST('/api/certificate-authorities/{environment}/switches', {
          ...path,
          body: { new: new_ },
        }),
      ),
    )
  const retire = () =>
    acts.run(() => ok(api.POST('/api/certificate-authorities/{environment}/retirements', path)))
  const trust = (root: string | undefined, receiver: string, trusts: boolean) =>
    acts.run(() =>
      ok(
        api.PUT('/api/certificate-authorities/{root}/trust', {
          params: { path: { root: root! } },
          body: { receiver, trusts },
        }),
      ),
    )
  const MARKS: Record<string, string> = { done: '✓', now: '▸', waits: '·' }
</script>

<section class="sheet p-4" aria-labelledby="replace">
  <div class="flex items-baseline">
    <h2 id="replace">{begun ? 'Being replaced' : 'Replace the authority'}</h2>
    {#if !begun}<button class="act ms-auto" onclick={() => (open = !open)}
        >{open ? 'Close' : 'See the order'}</button
      >{/if}
  </div>
  {#if house.moved_by}<p class="help">
      Everything below the old one must have moved by {day(house.moved_by)}.
    </p>{/if}
  {#if begun || open}
    <ol class="mt-1">
      {#each house.steps as step (step.key)}
        <li
          class="border-base-300 border-b py-2 last:border-0 {step.state === 'waits'
            ? 'text-soft'
            : ''}"
        >
          <p class={step.state === 'now' ? 'font-bold' : ''}>
            <span aria-hidden="true" class={step.state === 'done' ? 'text-success' : ''}
              >{MARKS[step.state]}</span
            >
            {step.title}
            <span class="sr-only">({step.state === 'waits' ? 'later' : step.state})</span>
          </p>
          {#if step.state === 'now'}
            <p class="help">{step.why}</p>
            {#each step.items as item (item.key)}
              <p class="flex items-baseline gap-2 py-1">
                {#if step.key === 'move'}<a class="act" href="/certificates/{item.key}"
                    >{item.name}</a
                  >{:else}<span>{item.name}</span>{/if}
                <span class="text-soft">{item.says}</span>
                {#if may('change') && step.key === 'trust'}<button
                    class="act ms-auto"
                    disabled={acts.busy}
                    onclick={() => trust(fresh?.id, item.key, !item.done)}
                    >{item.done ? 'Mark as not trusting' : 'Mark as trusting'}</button
                  >{/if}
                {#if may('change') && step.key === 'drop'}{#if item.done}<span
                      class="text-success ms-auto">done</span
                    >{:else}<button
                      class="act ms-auto"
                      disabled={acts.busy}
                      onclick={() => trust(old?.id, item.key, false)}>Mark as not trusting</button
                    >{/if}{/if}
              </p>
            {/each}
            {#if may('change')}
              {#if step.key === 'make'}<button
                  class="btn btn-sm mt-1"
                  disabled={acts.busy}
                  onclick={make}>Create new authority</button
                >{/if}
              {#if step.key === 'switch'}<button
                  class="btn btn-sm mt-1"
                  disabled={acts.busy}
                  onclick={() => change(true)}>Issue below the new one</button
                >{/if}
              {#if step.key === 'move'}<button
                  class="act mt-1"
                  disabled={acts.busy}
                  onclick={() => change(false)}>Issue below the old one again</button
                >{/if}
              {#if step.key === 'retire'}<button
                  class="btn btn-error btn-sm mt-1"
                  disabled={acts.busy}
                  onclick={retire}>Retire the old authority</button
                >{/if}
            {/if}
          {:else if step.items.length && step.state === 'waits'}
            <p class="help">{step.items.map((item) => item.name).join(', ')}</p>
          {/if}
        </li>
      {/each}
    </ol>
  {:else}<p class="help">
      Nobody is shown a certificate that they do not trust yet: the steps are in that order.
    </p>{/if}
  <ProblemBox problem={acts.problem} />
</section>
