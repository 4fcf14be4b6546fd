<script lang="ts">
  import type { Schemas } from '../../api/client'
  import { chainShape } from '../../lib/chain'
  import { clock } from '../../lib/clock.svelte'
  import { day } from '../../lib/time'

  let { chain }: { chain: Schemas['CertificateChain'] } = $props()
  let measured = $state(420)
  const WIDTH = $derived(Math.max(measured, 120))
  /** The root stands on top, as people draw it; the chain itself runs from the leaf upwards. */
  const links = $derived([...chain.links].reverse())
  const shape = $derived(chainShape(links, clock.now, WIDTH))
  const ROLES: Record<string, string> = {
    leaf: 'certificate',
    issuing: 'issuing authority',
    root: 'root',
  }
  const name = (subject: string) =>
    /(?:^|,)CN=((?:\\.|[^,])*)/.exec(subject)?.[1]?.replaceAll('\\', '') ?? subject
  const says = $derived(
    links
      .map(
        (link) =>
          `${name(link.subject)}, ${ROLES[link.role]}, expires ${day(link.not_after)}` +
          (link.ends_first ? ', the first to expire' : ''),
      )
      .join('; '),
  )
  const firstToExpire = $derived(name(links.find((link) => link.ends_first)?.subject ?? ''))
</script>

<div class="grid grid-cols-1 lg:grid-cols-[minmax(150px,210px)_minmax(0,1fr)] gap-x-3">
  <div>
    {#each links as link, place (link.sha256)}
      <div class="relative flex h-[62px] flex-col justify-center ps-7">
        {#if place > 0}<svg
            class="absolute -top-[15px] left-0 h-[30px] w-5"
            viewBox="0 0 20 30"
            aria-hidden="true"
          >
            <rect
              x="5"
              y="1"
              width="10"
              height="17"
              rx="5"
              class="stroke-secondary fill-none"
              stroke-width="2.2"
            />
            <rect
              x="5"
              y="12"
              width="10"
              height="17"
              rx="5"
              class="stroke-slate fill-none"
              stroke-width="2.2"
            />
          </svg>{/if}
        <p class="line-clamp-2 leading-tight font-semibold" title={link.subject}>
          {name(link.subject)}
        </p>
        <p class="help">{ROLES[link.role]}{link.trusted ? ', trusted' : ''}</p>
      </div>
    {/each}
  </div>
  <svg
    role="img"
    aria-label={says}
    viewBox="0 0 {WIDTH} {links.length * 62 + 22}"
    preserveAspectRatio="none"
    class="w-full"
    style:height="{links.length * 62 + 22}px"
  >
    <title>{says}</title>
    {#each shape.ticks as tick (tick.x)}
      <path
        d="M{tick.x} 0 V{links.length * 62}"
        class="stroke-base-300"
        vector-effect="non-scaling-stroke"
      />
    {/each}
    {#each shape.plates as plate, place (place)}
      {@const shown = links[place]!}
      <rect
        x={plate.x}
        y={place * 62 + 20}
        width={plate.width}
        height="20"
        rx="3"
        class={plate.over || shown.broken
          ? 'fill-bad-ground stroke-error'
          : shown.ends_first
            ? 'fill-brass-ground stroke-secondary'
            : 'fill-slate-ground stroke-slate'}
        vector-effect="non-scaling-stroke"
      />
    {/each}
    <path
      d="M{shape.now} 0 V{links.length * 62}"
      class="stroke-base-content"
      stroke-width="1.5"
      vector-effect="non-scaling-stroke"
    />
    {#if shape.end !== null}<path
        d="M{shape.end} 0 V{links.length * 62}"
        class="stroke-error"
        stroke-width="1.5"
        stroke-dasharray="4 3"
        vector-effect="non-scaling-stroke"
      />{/if}
  </svg>
  <div></div>
  <div class="relative -mt-[20px] h-5 text-[0.86em]" aria-hidden="true" bind:clientWidth={measured}>
    {#each shape.ticks as tick (tick.x)}{#if tick.x < WIDTH - 24}<span
          class="text-soft absolute"
          style:left="{(tick.x / WIDTH) * 100}%">{tick.label}</span
        >{/if}{/each}
  </div>
</div>
{#if chain.ends}<p class="mt-1">
    <span class="text-error" aria-hidden="true">┆</span> The chain expires on
    <strong>{day(chain.ends)}</strong>, when
    <strong>{firstToExpire}</strong> does. The full line marks today.
  </p>{/if}
