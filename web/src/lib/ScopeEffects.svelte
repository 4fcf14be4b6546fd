<script lang="ts">
  import type { Schemas } from '../api/client'
  import ProblemBox from './ProblemBox.svelte'

  /**
   * Whom it would stop if these scopes were left and no others: asked at each change, and told
   * before anything is saved.
   */
  let {
    scopes,
    ask,
    stops = $bindable(false),
    named = true,
  }: {
    named?: boolean
    scopes: string[]
    ask: (scopes: string[]) => Promise<Schemas['ScopeEffect'][]>
    stops?: boolean
  } = $props()
  let effects = $state<Schemas['ScopeEffect'][]>([])
  let problem = $state<unknown>(null)

  let asked = 0
  $effect(() => {
    const wanted = [...scopes]
    const mine = ++asked
    const later = setTimeout(async () => {
      try {
        const found = await ask(wanted)
        if (mine !== asked) return
        effects = found
        stops = found.some((effect) => effect.workloads.length > 0)
        problem = null
      } catch (error) {
        if (mine === asked) problem = error
      }
    }, 150)
    return () => clearTimeout(later)
  })
</script>

<div aria-live="polite" data-scope-effects={stops ? 'stops' : 'none'}>
  {#each effects as effect (effect.ref)}
    {#each effect.workloads as workload (workload.name)}
      <p class="text-error font-semibold">
        ✗ {workload.name} stops: it lacks {workload.lacks.join(', ')} for {workload.operations.join(
          ', ',
        )}
        {#if named}<span class="value text-base-content font-normal">{effect.ref}</span>{/if}
      </p>
    {/each}
    {#if effect.asks_in_vain.length}
      <p class="text-warning">
        <span class="value">{effect.ref}</span> still asks for {effect.asks_in_vain.join(', ')}; its
        next token may be refused.
      </p>
    {/if}
  {/each}
</div>
<ProblemBox {problem} />
