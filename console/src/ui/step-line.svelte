<script lang="ts">
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import CircleX from '@lucide/svelte/icons/circle-x';

  interface Props {
    good: boolean;
    name: string;
    words: string;
  }

  const { good, name, words }: Props = $props();
</script>

<li class="flex items-start gap-2 py-1" data-step={name} data-good={good}>
  {#if good}<CircleCheck class="mt-0.5 size-4 shrink-0 text-moss" />{:else}<CircleX
      class="mt-0.5 size-4 shrink-0 text-wrong"
    />{/if}
  <b class="w-18 shrink-0">{name}</b>
  <span class="min-w-0 break-words">{words}</span>
</li>
