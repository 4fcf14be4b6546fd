<script lang="ts">
  import type { Schemas } from '../../api/client'

  type Rule = Schemas['RuleIO']
  let {
    rules = $bindable(),
    groups = $bindable(),
    operations,
  }: { rules: Rule[]; groups: [string, string][]; operations: string[] } = $props()

  const move = (at: number, by: number) => {
    const other = rules[at + by]
    if (!other) return
    rules[at + by] = rules[at]!
    rules[at] = other
  }
  const add = () =>
    rules.push({
      effect: 'allow',
      who: '',
      operation: operations[0] ?? '*',
      resource: '',
      match: 'exact',
      origins: [],
    })
</script>

<fieldset class="mb-3">
  <legend class="label-text">Groups</legend>
  {#each groups as entry, at (at)}
    <div class="mb-1 flex gap-2">
      <input
        class="line-in !w-40"
        aria-label="Name of group {at + 1}"
        placeholder="boards"
        bind:value={entry[0]}
      />
      <input
        class="line-in value"
        aria-label="Members of group {at + 1}"
        placeholder="svc-a, svc-b"
        bind:value={entry[1]}
      />
      <button
        type="button"
        class="act"
        aria-label="Take group {at + 1} away"
        onclick={() => groups.splice(at, 1)}>Remove</button
      >
    </div>
  {/each}
  <button type="button" class="act" onclick={() => groups.push(['', ''])}>Add a group</button>
</fieldset>
<table class="rows">
  <thead
    ><tr
      ><th>No.</th><th>Effect</th><th>Who</th><th>May</th><th>On</th><th>Match</th><th
        >From networks</th
      ><th><span class="sr-only">Actions</span></th></tr
    ></thead
  >
  <tbody>
    {#each rules as entry, at (at)}
      <tr>
        <td>{at + 1}</td>
        <td
          ><select class="line-in" aria-label="Effect of rule {at + 1}" bind:value={entry.effect}
            ><option>allow</option><option>deny</option></select
          ></td
        >
        <td
          ><input
            class="line-in value"
            aria-label="Who, rule {at + 1}"
            placeholder="svc-a, group:boards or *"
            bind:value={entry.who}
          /></td
        >
        <td
          ><select
            class="line-in"
            aria-label="Operation of rule {at + 1}"
            bind:value={entry.operation}
            >{#each [...new Set([...operations, '*', entry.operation])] as each (each)}<option
                value={each}>{each === '*' ? 'everything' : each}</option
              >{/each}</select
          ></td
        >
        <td
          ><input
            class="line-in value"
            aria-label="Resource of rule {at + 1}"
            bind:value={entry.resource}
          /></td
        >
        <td
          ><select class="line-in" aria-label="Match of rule {at + 1}" bind:value={entry.match}
            ><option value="exact">exactly</option><option value="prefix">all that begin so</option
            ></select
          ></td
        >
        <td
          ><input
            class="line-in value"
            aria-label="Networks of rule {at + 1}"
            placeholder="anywhere"
            value={entry.origins?.join(' ')}
            oninput={(event) =>
              (entry.origins = event.currentTarget.value.split(/[\s,]+/).filter(Boolean))}
          /></td
        >
        <td class="whitespace-nowrap"
          ><button
            type="button"
            class="min-h-[24px] min-w-[24px]"
            aria-label="Rule {at + 1} up"
            onclick={() => move(at, -1)}>↑</button
          ><button
            type="button"
            class="min-h-[24px] min-w-[24px]"
            aria-label="Rule {at + 1} down"
            onclick={() => move(at, 1)}>↓</button
          ><button
            type="button"
            class="min-h-[24px] min-w-[24px]"
            aria-label="Take rule {at + 1} away"
            onclick={() => rules.splice(at, 1)}>×</button
          ></td
        >
      </tr>
    {/each}
  </tbody>
</table>
<button type="button" class="act mt-2" onclick={add}>Add a rule</button>
