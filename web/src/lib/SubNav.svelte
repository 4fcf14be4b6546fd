<script lang="ts">
  import { route } from '../router'

  const GROUPS: [string, string][][] = [
    [
      ['Applications', '/applications'],
      ['Redirect URIs', '/redirect-uris'],
      ['Scopes', '/scopes'],
      ['Access rules', '/access-rules'],
    ],
    [
      ['Connections', '/connections'],
      ['Users', '/users'],
      ['My accounts', '/accounts'],
    ],
    [
      ['Credentials', '/credentials'],
      ['House authority', '/credentials/house'],
      ['Handovers', '/credentials/handovers'],
      ['It has leaked', '/credentials/leaked'],
    ],
  ]
  const NAMES = ['applications', 'connections', 'credentials'] as const
  let { group }: { group: (typeof NAMES)[number] } = $props()
  const pages = $derived(GROUPS[NAMES.indexOf(group)]!)
</script>

<nav aria-label="Within {group}" class="border-base-300 mb-3 flex gap-5 border-b">
  {#each pages as [name, address] (address)}
    {@const on = route.pathname === address}
    <a
      href={address}
      aria-current={on ? 'page' : undefined}
      class="min-h-[28px] {on ? 'border-base-content -mb-px border-b-2 font-bold' : 'text-soft hover:underline'}">{name}</a
    >
  {/each}
</nav>
