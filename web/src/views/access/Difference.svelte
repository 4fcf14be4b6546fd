<script lang="ts">
  import type { Schemas } from '../../api/client'

  let {
    told,
    added = 'added',
    gone = 'removed',
  }: { told: Schemas['RulesDifferenceOut']; added?: string; gone?: string } = $props()
  const WORDS: Record<string, string> = {
    yes: 'may',
    some: 'may from some addresses',
    no: 'may not',
  }
</script>

<!-- What a change of rules comes to: in rules, in groups, and in the rights of each principal. -->
{#if told.nothing}<p>Both are the same.</p>
{:else}
  {#if told.unknown}<p class="text-warning font-semibold">
      Which rights this changes is not worked out. {told.unknown}
    </p>{/if}
  {#each told.added as rule, at (at)}<p>
      <span class="font-semibold">+ {added}</span>
      {rule}
    </p>{/each}
  {#if told.added_in_all > told.added.length}<p class="help">
      and {told.added_in_all - told.added.length} more {added}
    </p>{/if}
  {#each told.gone as rule, at (at)}<p><span class="font-semibold">− {gone}</span> {rule}</p>{/each}
  {#if told.gone_in_all > told.gone.length}<p class="help">
      and {told.gone_in_all - told.gone.length} more {gone}
    </p>{/if}
  {#each told.groups as group (group)}<p>{group}</p>{/each}
  {#if told.reordered}<p>The same rules in another order.</p>{/if}
  {#if !told.unknown}<p class="mt-1 font-semibold">
      {told.rights_in_all === 0
        ? 'No right changes.'
        : told.rights_in_all === 1
          ? 'One right changes:'
          : `${told.rights_in_all} rights change:`}
    </p>{/if}
  {#each told.rights.slice(0, 30) as right, at (at)}<p
      class={right.after === 'no' ? 'font-semibold' : ''}
    >
      <span class="value">{right.principal}</span>
      {right.operation.toLowerCase()} <span class="value">{right.resource}</span>: {WORDS[
        right.before
      ]} → {WORDS[right.after]}
    </p>{/each}
  {#if told.rights_in_all > 30}<p class="help">and {told.rights_in_all - 30} more</p>{/if}
{/if}
