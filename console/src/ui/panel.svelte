<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    title: string;
    /** Beside the title. */
    note?: string;
    /** At the right end of the title's line. */
    tools?: Snippet;
    children: Snippet;
    /** Whether it takes the room that is left. @default false */
    fills?: boolean;
  }

  const { title, note = '', tools, children, fills = false }: Props = $props();
</script>

<section
  aria-label={title}
  class="flex flex-col overflow-hidden rounded-lg border border-line bg-panel {fills ? 'min-h-0 flex-1' : ''}"
>
  <div class="flex min-h-11 items-center gap-4 px-5 py-2">
    <h2 class="font-semibold whitespace-nowrap">{title}</h2>
    {#if note}<p class="text-xs text-quiet">{note}</p>{/if}
    {#if tools}<div class="ml-auto flex shrink-0 items-center gap-2">{@render tools()}</div>{/if}
  </div>
  {@render children()}
</section>
