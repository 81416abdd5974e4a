<script lang="ts">
  import type { Notice } from './notice.svelte';

  interface Props {
    notice: Notice;
    /** Where it stands. */
    class?: string;
  }

  const { notice, class: place = '' }: Props = $props();
</script>

{#if notice.done}<p class="text-sm text-moss {place}" role="status">{notice.done}</p>{/if}
{#if notice.trouble}<p class="text-sm text-wrong {place}" role="alert">{notice.trouble}</p>{/if}
