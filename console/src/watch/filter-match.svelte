<script lang="ts">
  import { count, plural } from '$lib/format';
  import type { Topics } from './topics.svelte';

  interface Props {
    topics: Topics;
  }

  const { topics }: Props = $props();
  const match = $derived(topics.match);
  const subscribers = $derived(topics.subscribers);
</script>

<div class="flex min-h-0 flex-col gap-2 overflow-y-auto px-5 pt-1 pb-3 text-sm">
  <label class="block">
    <span class="sr-only">Topic filter</span>
    <input
      type="text"
      spellcheck="false"
      placeholder="harrowmere/+/+/stage/level"
      class="w-full field font-mono text-sm"
      bind:value={topics.filter}
      oninput={() => topics.find()}
      aria-invalid={topics.wrong !== ''}
    />
  </label>
  {#if topics.wrong}
    <p class="text-wrong" role="alert">{topics.wrong}</p>
  {:else if match}
    <p>
      <b>Matches</b>
      {plural(match.planned.length, 'planned path')}, {plural(match.live_total, 'live topic')}
    </p>
    <ul class="font-mono text-xs wrap-anywhere text-moss" data-matches>
      {#each match.planned as path (path)}<li>{path}</li>{/each}
      {#each match.live as topic (topic)}
        <li><a class="hover:underline" href="#/topic?name={encodeURIComponent(topic)}">{topic}</a></li>
      {/each}
    </ul>
    {#if subscribers}
      <p>
        <b>Received by</b>
        {plural(subscribers.total, 'subscription')}
      </p>
      <ul class="text-xs" data-subscribers>
        {#each subscribers.subscriptions as one (`${one.client_id} ${one.group} ${one.filter}`)}
          <li class="mb-0.5">
            <span class="font-semibold">{one.client_id}</span>
            <span class="font-mono wrap-anywhere">{one.filter}</span>
            <span class="text-quiet">
              QoS {one.qos}{one.group ? `, group ${one.group}` : ''}{one.connected
                ? ''
                : ', away'}{one.queue > 0 ? `, ${count(one.queue)} queued` : ''}
            </span>
          </li>
        {/each}
        {#if subscribers.total > subscribers.subscriptions.length}
          <li class="text-quiet">{count(subscribers.total - subscribers.subscriptions.length)} more</li>
        {/if}
      </ul>
    {/if}
    {#if match.live_misses.length + match.planned_misses.length > 0}
      <p><b>Near misses</b></p>
      <ul class="text-xs" data-misses>
        {#each [...match.live_misses, ...match.planned_misses] as miss, index (index)}
          <li class="mb-1">
            <span class="font-mono wrap-anywhere">{miss.topic}</span>
            <span class="block text-quiet">level {miss.level}: {miss.explanation}</span>
          </li>
        {/each}
      </ul>
    {/if}
  {:else}
    <p class="text-quiet">
      Enter a topic or filter to see what it matches, and who receives it. <code>+</code> matches one level,
      <code>#</code> all remaining levels.
    </p>
  {/if}
</div>
