<script lang="ts">
  import type { Schemas } from '../../api/client'
  import When from '../../lib/When.svelte'
  import { capital } from '../../lib/words'

  /** ``dead``: it is no longer accepted, and what is told is what could be drawn before. */
  let {
    drawer,
    dead = false,
  }: { drawer: NonNullable<Schemas['LeakedCredentialOut']['drawer']>; dead?: boolean } = $props()
</script>

<p>
  <a class="act" href="/workloads/{drawer.workload}">{drawer.name}</a>{drawer.owner
    ? ` of ${drawer.owner}`
    : ''}
  {dead ? 'drew with it' : 'draws with it, and stops at once'}{drawer.others
    ? '; it has something else to draw with'
    : ''}.
</p>
{#if drawer.reach.length}
  <h4 class="mt-2 font-bold">
    Anyone who {dead ? 'had' : 'has'} it could draw{drawer.relay
      ? ', and send requests through'
      : ''}
  </h4>
  <ul>
    {#each drawer.reach as reached (reached.ref)}
      <li class="mt-1">
        <a class="act value" href="/connections/{reached.ref}">{reached.ref}</a>
        <span class="help"
          >{#if reached.last}<When at={reached.last} prefix="last drawn " />
          {:else}never drawn{/if}</span
        >
        <p class={reached.lasts ? 'text-error font-semibold' : ''}>
          {capital(reached.says)}{#if reached.at}, <When at={reached.at} />{/if}.
        </p>
      </li>
    {/each}
  </ul>
{:else}<p class="help">It uses no connection, so nothing could be drawn with it.</p>{/if}
