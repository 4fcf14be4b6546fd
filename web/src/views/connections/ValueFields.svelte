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
</script>

<!-- The form is made from the profile's own description of what the application wants. -->
{#each scheme.values.filter((value) => !value.secret && value.type !== 'scopes') as one (one.key)}
  <Field
    id={one.key}
    label={one.label + (one.required ? '' : ', if there is one')}
    help={one.help}
    where={one.where}
    error={errors[one.key]}
    notes={notes[one.key]}
  >
    {#if one.type === 'choice'}
      <select id={one.key} class="line-in value" bind:value={values[one.key]}
        >{#each one.choices as choice (choice)}<option>{choice}</option>{/each}</select
      >
    {:else if one.type === 'certificate'}
      <textarea
        id={one.key}
        rows="4"
        class="line-in value"
        spellcheck="false"
        bind:value={values[one.key]}
        aria-describedby="{one.key}-help"></textarea>
    {:else}
      <input
        id={one.key}
        class="line-in value"
        autocomplete="off"
        spellcheck="false"
        placeholder={one.example}
        bind:value={values[one.key]}
        aria-invalid={errors[one.key] ? 'true' : undefined}
        aria-describedby="{one.key}-help{errors[one.key] ? ` ${one.key}-error` : ''}"
      />
    {/if}
  </Field>
{/each}
