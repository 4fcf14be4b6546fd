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
      ['Credentials', '/credentials'],
      ['House authority', '/credentials/house'],
      ['Certificates', '/certificates'],
      ['Programs', '/credentials/programs'],
      ['Handovers', '/credentials/handovers'],
      ['Leaked credential', '/credentials/leaked'],
    ],
  ]
  const NAMES = ['applications', 'credentials'] as const
  let { group }: { group: (typeof NAMES)[number] } = $props()
  const pages = $derived(GROUPS[NAMES.indexOf(group)]!)
  /**
   * The page itself, or the one that it stands below: the longest address that its own begins with.
   */
  const current = $derived(
    pages
      .map(([, address]) => address)
      .filter((address) => route.pathname === address || route.pathname.startsWith(`${address}/`))
      .sort((a, b) => b.length - a.length)[0],
  )
</script>

<nav
  aria-label="Within {group}"
  class={[
    'border-base-300 mb-3 flex gap-5 border-b whitespace-nowrap',
    'max-lg:overflow-x-auto max-lg:overflow-y-hidden',
  ]}
>
  {#each pages as [name, address] (address)}
    {@const on = current === address}
    <a
      href={address}
      aria-current={on ? (route.pathname === address ? 'page' : 'true') : undefined}
      class="min-h-[28px] {on
        ? 'border-base-content -mb-px border-b-2 font-bold'
        : 'text-soft hover:underline'}">{name}</a
    >
  {/each}
</nav>
