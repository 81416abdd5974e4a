<script lang="ts">
  import TopicText from '$ui/topic-text.svelte';
  import { became } from '$ui/became';
  import type { DerivedTopics } from './derived.svelte';

  interface Props {
    topics: DerivedTopics;
  }

  const { topics }: Props = $props();
</script>

<form
  class="mt-3 flex flex-wrap items-center gap-2"
  onsubmit={(event) => {
    event.preventDefault();
    void topics.try();
  }}
>
  <span class="font-medium">Try a message:</span>
  <input
    class="field min-w-96 flex-1 font-mono text-xs"
    aria-label="Topic"
    placeholder="topic"
    required
    bind:value={topics.topic}
  />
  <input
    class="field min-w-32 flex-1 font-mono text-xs"
    aria-label="Payload"
    placeholder="payload"
    bind:value={topics.payload}
  />
  <button type="submit" class="plain-button">Try</button>
</form>
{#if topics.refusal}<p class="mt-1 text-wrong" role="alert">{topics.refusal}</p>{/if}
{#if topics.outcomes}
  <div class="mt-1" data-tried>
    {#each topics.outcomes as one (one.topic)}
      <p><TopicText topic={one.topic} /></p>
      <p class="pl-4 wrap-anywhere {one.outcome === 'failed' ? 'text-wrong' : ''}">
        {became(one, Date.now())}
      </p>
    {:else}
      <p class="text-quiet">{topics.shown} does not hear this topic.</p>
    {/each}
    <p class="text-quiet">This is a trial; nothing was published.</p>
  </div>
{/if}
