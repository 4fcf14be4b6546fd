<script lang="ts">
  import type { Snippet } from 'svelte'
  import type { Schemas } from '../../api/client'
  import { grouped } from '../../lib/words'

  /**
   * What a file, or the undoing of an import, would change, object by object; `children`: what can
   * be done with it.
   */
  let { preview, children }: { preview: Schemas['InventoryPreviewOut']; children?: Snippet } =
    $props()
  const ACTS: Record<string, string> = {
    add: 'added',
    change: 'changed',
    remove: 'removed',
    kept: 'stays',
    conflict: 'stays, the file differs',
  }
  const lines = $derived(preview.changes.some((change) => change.line > 0))
</script>

<section class="sheet" aria-labelledby="preview">
  <header class="border-base-300 flex flex-wrap items-center gap-4 border-b px-4 py-2">
    <h2 id="preview">
      {preview.nothing
        ? 'Nothing would change'
        : `${grouped(preview.adds)} added, ${grouped(preview.changes_count)} changed, ` +
          `${grouped(preview.removes)} removed`}
    </h2>
    {#if preview.conflicts}<span class="text-error font-semibold"
        >{grouped(preview.conflicts)} changed meanwhile and by the file,
        {preview.conflicts === 1 ? 'left as it is' : 'left as they are'}</span
      >{/if}
    {#if preview.kept}<span class="text-warning font-semibold"
        >{grouped(preview.kept)} left as {preview.kept === 1 ? 'it is' : 'they are'}</span
      >{/if}
    {#if !preview.base_known}<span class="text-warning"
        >It is not known what this file was made from; it is compared with what is there now</span
      >{/if}
    {#if !preview.nothing}<span class="ms-auto flex gap-2">{@render children?.()}</span>{/if}
  </header>
  {#if preview.changes.length}
    <table class="rows">
      <thead
        ><tr
          >{#if lines}<th>Line</th>{/if}<th>What</th><th>Comes to</th><th>In words</th></tr
        ></thead
      >
      <tbody>
        {#each preview.changes as change (change.kind + change.key)}
          <tr>
            {#if lines}<td class="text-soft">{change.line || ''}</td>{/if}
            <td
              ><span class="help">{change.kind}</span><br /><span class="value wrap-anywhere"
                >{change.key}</span
              ></td
            >
            <td
              class="font-semibold whitespace-nowrap {change.act === 'remove' ||
              change.act === 'conflict'
                ? 'text-error'
                : change.act === 'kept'
                  ? 'text-warning'
                  : 'text-success'}">{ACTS[change.act]}</td
            >
            <td
              >{#each change.says.slice(0, 8) as sentence, at (at)}<p class="break-words">
                  {sentence}
                </p>{/each}{#if change.says.length > 8}<p class="help">
                  and {change.says.length - 8} more
                </p>{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
  {#if preview.more}<p class="help px-4 py-2">And {grouped(preview.more)} more objects.</p>{/if}
  {#if preview.stays}<p class="help px-4 py-2">
      {grouped(preview.stays)} objects are not in the file; they stay.
    </p>{/if}
</section>
