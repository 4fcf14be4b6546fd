<script lang="ts">
  import type { Schemas } from '../../api/client'
  import Field from '../../lib/Field.svelte'

  let {
    scheme,
    values = $bindable(),
    errors = {},
    notes = {},
  }: {
    scheme: Schemas['SchemeOut']
    values: Record<string, string>
    errors?: Record<string, string>
    notes?: Record<string, string[]>
  } = $props()
  const plain = $derived(scheme.values.filter((value) => !value.secret && value.type !== 'scopes'))
</script>

<!-- The form is made from the profile's own description of what the application wants. -->
{#each plain as entry (entry.key)}
  <Field
    id={entry.key}
    label={entry.label + (entry.required ? '' : ', if there is one')}
    help={entry.help}
    where={entry.where}
    error={errors[entry.key]}
    notes={notes[entry.key]}
  >
    {#if entry.type === 'choice'}
      <select id={entry.key} class="line-in value" bind:value={values[entry.key]}
        >{#each entry.choices as choice (choice)}<option>{choice}</option>{/each}</select
      >
    {:else if entry.type === 'certificate'}
      <textarea
        id={entry.key}
        rows="4"
        class="line-in value"
        spellcheck="false"
        bind:value={values[entry.key]}
        aria-describedby="{entry.key}-help"></textarea>
    {:else}
      <input
        id={entry.key}
        class="line-in value"
        autocomplete="off"
        spellcheck="false"
        placeholder={entry.example}
        bind:value={values[entry.key]}
        aria-invalid={errors[entry.key] ? 'true' : undefined}
        aria-describedby="{entry.key}-help{errors[entry.key] ? ` ${entry.key}-error` : ''}"
      />
    {/if}
  </Field>
{/each}
