<script lang="ts">
  import type { PinOut } from '../../api/client'
  import Marked from '../../lib/Marked.svelte'
  import ShearBars from '../../lib/ShearBars.svelte'
  import { may } from '../../lib/session.svelte'
  import { capital } from '../../lib/words'

  type Act = PinOut['acts'][number]
  let {
    pins,
    act,
    busy,
  }: { pins: PinOut[]; act: (pin: PinOut, what: Act) => void; busy: boolean } = $props()
  const ground: Record<string, string> = {
    differs: 'bg-bad-ground',
    missing: 'bg-bad-ground',
    not_proven: 'bg-quiet-ground',
  }
  const SEEING = ['see_workloads', 'open_client', 'open_application']
  const TESTING = ['test', 'sign_in']
  const mayAct = (key: string) =>
    SEEING.includes(key) || may(TESTING.includes(key) ? 'test' : 'change')
  const quiet = (pin: PinOut) => pin.fit === 'fits' || pin.fit === 'not_asked'
  /** A note that is the same on many rows is said on the first of them only. */
  const repeated = (place: number) =>
    pins[place]!.fit === 'not_proven' &&
    pins.slice(0, place).some((pin) => pin.fit === 'not_proven' && pin.why === pins[place]!.why)
</script>

<section class="sheet relative overflow-hidden" aria-labelledby="shear-title">
  <h2 id="shear-title" class="sr-only">Both halves, pin by pin</h2>
  <div
    class={[
      'border-base-300 grid h-[37px]',
      'grid-cols-[minmax(0,1fr)_72px_minmax(0,1fr)]',
      'md:grid-cols-[122px_minmax(0,1fr)_100px_minmax(0,1fr)] items-center',
      'gap-x-3 border-b px-3.5',
    ]}
  >
    <span class="max-md:hidden"></span>
    <span class="text-brass text-end font-bold"
      >Provider side <span class="help font-normal max-md:hidden">what the application holds</span
      ></span
    >
    <span class="help text-center">shear line</span>
    <span class="text-slate font-bold"
      >Caller side <span class="help font-normal max-md:hidden">what we send</span></span
    >
  </div>
  <ul class="shear">
    {#each pins as pin, place (pin.key)}
      <li class="relative {ground[pin.fit] ?? ''}" data-pin={pin.key} data-fit={pin.fit}>
        <div
          class={[
            'grid min-h-[36px] grid-cols-[minmax(0,1fr)_72px_minmax(0,1fr)]',
            'md:grid-cols-[122px_minmax(0,1fr)_100px_minmax(0,1fr)] items-center',
            'gap-x-3 px-3.5 py-1',
          ]}
          title={quiet(pin) ? pin.why : undefined}
        >
          <span class="text-soft max-md:col-span-3 max-md:text-[0.93em]">{capital(pin.label)}</span>
          <span class="value text-end {pin.fit === 'not_asked' ? 'text-soft' : ''}"
            ><Marked pieces={pin.provider_marked} text={pin.provider} /></span
          >
          <span class="flex justify-center"><ShearBars fit={pin.fit} label={pin.label} /></span>
          <span class="value {pin.fit === 'not_asked' ? 'text-soft' : ''}"
            ><Marked pieces={pin.caller_marked} text={pin.caller} /></span
          >
        </div>
        {#if !quiet(pin) && !repeated(place)}
          <div
            class={[
              'relative flex flex-wrap items-baseline gap-x-4 gap-y-0.5 pe-3.5 pb-2',
              'ps-3.5 md:ps-[136px]',
            ]}
          >
            <p class="min-w-0 flex-1 basis-[300px]">{pin.why}</p>
            <span class="flex flex-wrap justify-end gap-x-4">
              {#each pin.acts as entry (entry.key + entry.value)}
                {#if mayAct(entry.key)}
                  <button type="button" class="act" disabled={busy} onclick={() => act(pin, entry)}
                    >{entry.label}</button
                  >
                {/if}
              {/each}
            </span>
          </div>
        {:else if quiet(pin)}<span class="sr-only">{pin.why}</span>{/if}
      </li>
    {/each}
  </ul>
</section>

<style>
  /* The line itself runs behind the bars, through every row. */
  .shear {
    padding-bottom: 14px;
  }
  .shear > li > div:first-child > :nth-child(3) {
    align-self: stretch;
    align-items: center;
    margin-block: -0.25rem;
    background: linear-gradient(var(--color-soft), var(--color-soft)) center / 2px 100% no-repeat;
  }
</style>
