<script lang="ts">
  import type { Topics } from '$lib/state/topics.svelte';

  interface Props {
    topics: Topics;
  }

  const { topics }: Props = $props();
  const match = $derived(topics.match);
</script>

<div class="flex min-h-0 flex-col gap-2 overflow-y-auto px-5 pt-1 pb-3 text-sm">
  <label class="block">
    <span class="sr-only">Topic filter</span>
    <input
      type="text"
      spellcheck="false"
      placeholder="harrowmere/+/+/stage/level"
      class="w-full rounded border border-line bg-page px-3 py-1.5 font-mono"
      bind:value={topics.filter}
      oninput={() => topics.find()}
      aria-invalid={topics.wrong !== ''}
    />
  </label>
  {#if topics.wrong}
    <p class="text-wrong" role="alert">{topics.wrong}</p>
  {:else if match}
    <p>
      <b>Catches</b>
      {match.planned.length} planned {match.planned.length === 1 ? 'path' : 'paths'}, {match.live_total} live {match.live_total ===
      1
        ? 'topic'
        : 'topics'}
    </p>
    <ul class="font-mono text-xs wrap-anywhere text-moss" data-catches>
      {#each match.planned as path (path)}<li>{path}</li>{/each}
      {#each match.live as topic (topic)}
        <li><a class="hover:underline" href="#/topic?name={encodeURIComponent(topic)}">{topic}</a></li>
      {/each}
    </ul>
    {#if match.live_misses.length + match.planned_misses.length > 0}
      <p><b>Just misses</b></p>
      <ul class="text-xs" data-misses>
        {#each [...match.live_misses, ...match.planned_misses] as miss, index (index)}
          <li class="mb-1">
            <span class="font-mono wrap-anywhere">{miss.topic}</span>
            <span class="block text-quiet">level {miss.level}: {miss.words}</span>
          </li>
        {/each}
      </ul>
    {/if}
  {:else}
    <p class="text-quiet">
      Type a filter and see what it catches: <code>+</code> stands for one level, <code>#</code> at the end for
      all below.
    </p>
  {/if}
</div>
