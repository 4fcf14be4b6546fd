<script lang="ts">
  import { route } from '../router'
  import Brand from './Brand.svelte'
  import Find from './Find.svelte'
  import TakeIn from './TakeIn.svelte'
  import { help, more } from './keys.svelte'
  import Menu from './Menu.svelte'
  import { MORE, SECTIONS, sectionOf, type Section } from './sections'
  import { logOut, may, session, setKeys } from './session.svelte'
  import { chosenTheme, chooseTheme, type Theme } from './theme'

  let menu = $state(false)
  let theme = $state<Theme>(chosenTheme())
  const current = $derived(sectionOf(String(route.pathname)))
  const under = MORE.filter((section) => !section.need || may(section.need))
  const tab = (on: boolean) =>
    `h-[42px] shrink-0 items-center rounded-t-md px-3 max-sm:px-2 max-sm:text-[0.93em] ${
      on ? 'bg-base-200 text-base-content font-bold' : 'hover:underline'
    }`
</script>

{#snippet entry(item: Section, look: string)}
  <a
    href={item.address}
    class="act py-0.5 max-sm:py-1.5 {look}"
    aria-current={current === item.address ? 'page' : undefined}
    onclick={() => (more.open = false)}>{item.name}</a
  >
{/snippet}

<header class="bg-neutral text-neutral-content">
  <div
    class={[
      'mx-auto flex min-h-[54px] max-w-[1600px] flex-wrap items-stretch gap-2',
      'px-5 max-lg:px-3 max-lg:pt-2',
    ]}
  >
    <Brand />
    <nav
      aria-label="Sections"
      class={[
        'flex items-end gap-1 max-lg:order-last max-lg:w-full',
        'max-sm:justify-between max-sm:gap-0',
      ]}
    >
      {#each SECTIONS as section (section.address)}
        {@const on = current === section.address}
        <a
          href={section.address}
          aria-current={on ? 'page' : undefined}
          class="{section.wide ? 'hidden sm:flex' : 'flex'} {tab(on)}">{section.name}</a
        >
      {/each}
      <Menu
        bind:open={more.open}
        wide="w-48"
        look="flex {tab(under.some((section) => section.address === current))}"
      >
        {#snippet face()}More{/snippet}
        <div class="flex flex-col">
          {#each SECTIONS.filter((section) => section.wide) as section (section.address)}
            {@render entry(section, 'sm:hidden')}
          {/each}
          {#each under as section (section.address)}{@render entry(section, '')}{/each}
        </div>
      </Menu>
    </nav>
    <div class="ms-auto flex items-center gap-4 max-lg:gap-2">
      <TakeIn />
      <Find />
      <Menu bind:open={menu} label="{session.who?.person}, your menu" look="initials text-brass">
        {#snippet face()}{session.who?.initials}{/snippet}
        <p class="font-bold">{session.who?.person}</p>
        <p class="help mb-2">{session.who?.role}</p>
        <a class="act block" href="/accounts" onclick={() => (menu = false)}>My accounts</a>
        <a class="act block" href="/me" onclick={() => (menu = false)}>My log-in</a>
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
          onclick={() => ((help.open = true), (menu = false))}>All keys</button
        >
        <button type="button" class="act mt-1 block" onclick={() => void logOut()}>Log out</button>
      </Menu>
    </div>
  </div>
</header>
