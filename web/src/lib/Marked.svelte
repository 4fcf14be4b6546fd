<script lang="ts">
  let { pieces, text }: { pieces: { text: string; same: boolean }[]; text: string } = $props()
</script>

<!-- A value with what the other side does not have marked, character by character. -->
{#if pieces.length}{#each pieces as piece, place (place)}{#if piece.same}{piece.text}{:else}<mark
        class="differs-char">{piece.text === ' ' ? '␣' : piece.text}</mark
      >{/if}{/each}{:else}{text}{/if}
