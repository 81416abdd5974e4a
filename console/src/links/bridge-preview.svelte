<script lang="ts">
  import type { BridgePreview } from '$api/client';
  import { count, plural } from '$lib/format';

  interface Props {
    /** Nothing if it was not asked for. */
    found: BridgePreview | undefined;
  }

  const { found }: Props = $props();
  const sides = $derived(found ? [found.push, found.pull] : []);
</script>

{#if found}
  <section aria-label="Preview" class="mt-3 border-t border-line pt-2">
    {#each found.warnings as words (words)}<p class="text-wrong">{words}</p>{/each}
    <div class="grid grid-cols-2 gap-x-8">
      {#each sides as side (side.direction)}
        <div>
          <h4 class="font-medium">
            {side.direction}: {count(side.carried)} of {plural(side.looked_at, 'topic')}
            {side.direction === 'push' ? 'here' : 'there'}
          </h4>
          <ul class="max-h-60 overflow-y-auto">
            {#each side.topics as line (line.topic)}
              <li class="py-0.5 wrap-anywhere">
                {line.topic}
                {#if line.becomes}
                  <span class="block pl-4 text-moss"
                    >→ {line.becomes === line.topic ? 'the same name' : line.becomes}</span
                  >
                {:else}
                  <span class="block pl-4 text-quiet">✕ {line.why_not}</span>
                {/if}
              </li>
            {/each}
          </ul>
        </div>
      {/each}
    </div>
  </section>
{/if}
