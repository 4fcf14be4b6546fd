<script lang="ts">
  import { route } from '../router'
  import Find from './Find.svelte'
  import TakeIn from './TakeIn.svelte'
  import { help, SECTIONS } from './keys.svelte'
  import { logOut, may, session, setKeys } from './session.svelte'
  import { chosenTheme, chooseTheme, type Theme } from './theme'

  let open = $state(false)
  let theme = $state<Theme>(chosenTheme())
  let box: HTMLElement | undefined = $state()
  const here = (address: string) =>
    address === '/' ? route.pathname === '/' : String(route.pathname).startsWith(address)
  /** Pages that belong to a section without standing below its address. */
  const BELONGS: [string, string][] = [
    ['/clients', '/applications'],
    ['/tests', '/connections'],
    ['/redirect-uris', '/applications'],
    ['/scopes', '/applications'],
    ['/access-rules', '/applications'],
    ['/workloads', '/connections'],
    ['/accounts', '/connections'],
    ['/certificates', '/credentials'],
    ['/replacements', '/credentials'],
  ]
  const section = $derived(BELONGS.find(([start]) => String(route.pathname).startsWith(start))?.[1])
</script>

<svelte:window
  onclick={(event) => {
    if (open && box && !box.contains(event.target as Node)) open = false
  }}
/>
<header class="bg-neutral text-neutral-content">
  <div
    class="mx-auto flex min-h-[54px] max-w-[1600px] flex-wrap items-stretch gap-2 px-5 max-lg:px-3 max-lg:pt-2"
  >
    <a
      href="/"
      class="flex items-center gap-2 text-[1.15rem] font-bold whitespace-nowrap lg:pe-4"
      aria-label="Neat Latch, to Today"
    >
      <svg width="44" height="20" viewBox="0 0 44 20" aria-hidden="true">
        {#each [0, 1, 2, 3] as place (place)}
          <rect x={2 + place * 11} y="1" width="7" height="8" rx="1.5" class="fill-secondary" />
          <rect x={2 + place * 11} y="11" width="7" height="8" rx="1.5" class="fill-slate-ground" />
        {/each}
      </svg>
      <span class="max-sm:sr-only">Neat Latch</span>
    </a>
    <nav
      aria-label="Sections"
      class="flex items-end gap-1 max-lg:order-last max-lg:overflow-x-auto max-lg:w-full"
    >
      {#each SECTIONS as [, name, address] (address)}
        {@const on = here(address) || section === address}
        <a
          href={address}
          aria-current={on ? 'page' : undefined}
          class="flex h-[42px] shrink-0 items-center rounded-t-md px-3 max-sm:px-1.5 max-sm:text-[0.93em] {on
            ? 'bg-base-200 text-base-content font-bold'
            : 'hover:underline'}">{name}</a
        >
      {/each}
    </nav>
    <div class="ms-auto flex items-center gap-4 max-lg:gap-2">
      <TakeIn />
      <Find />
      <div class="relative" bind:this={box}>
        <button
          type="button"
          class="bg-brass-ground text-brass grid h-[30px] w-[30px] place-items-center rounded-full text-[0.9em] font-bold"
          aria-expanded={open}
          aria-label="{session.who?.person}, your menu"
          onclick={() => (open = !open)}>{session.who?.initials}</button
        >
        {#if open}
          <div class="sheet text-base-content absolute right-0 z-40 mt-2 w-64 p-3 shadow-lg">
            <p class="font-bold">{session.who?.person}</p>
            <p class="help mb-2">{session.who?.role}</p>
            {#if may('read_journal')}<a
                class="act block"
                href="/journal"
                onclick={() => (open = false)}>Journal</a
              >{/if}
            <a class="act block" href="/people" onclick={() => (open = false)}>People and teams</a>
            <a class="act block" href="/inventory" onclick={() => (open = false)}>Inventory</a>
            <a class="act block" href="/accounts" onclick={() => (open = false)}>My accounts</a>
            <a class="act block" href="/me" onclick={() => (open = false)}>My log-in</a>
            <label class="mt-2 block"
              ><span class="label-text">Colours</span>
              <select class="line-in" bind:value={theme} onchange={() => chooseTheme(theme)}>
                <option value="system">As the system has them</option>
                <option value="paper">Light</option>
                <option value="night">Dark</option>
              </select></label
            >
            <label class="mt-2 flex min-h-[24px] items-center gap-2"
              ><input
                type="checkbox"
                checked={session.who?.keys_on}
                onchange={(e) => void setKeys(e.currentTarget.checked)}
              /> Single keys act</label
            >
            <button
              type="button"
              class="act mt-1 block"
              onclick={() => ((help.open = true), (open = false))}>All keys</button
            >
            <button type="button" class="act mt-1 block" onclick={() => void logOut()}
              >Log out</button
            >
          </div>
        {/if}
      </div>
    </div>
  </div>
</header>
