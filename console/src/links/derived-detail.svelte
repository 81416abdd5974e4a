<script lang="ts">
  import type { DerivedDetails } from '$api/client';
  import { count, moment, plural, span } from '$lib/format';
  import TopicText from '$ui/topic-text.svelte';
  import { publishes, scale, silent } from './derived';
  import type { DerivedTopics } from './derived.svelte';
  import DerivedTrial from './derived-trial.svelte';

  interface Props {
    details: DerivedDetails;
    topics: DerivedTopics;
    now: number;
  }

  const { details, topics, now }: Props = $props();
  const one = $derived(details.derived);
  const facts = $derived(
    [
      ['Condition', one.condition ?? ''],
      ['Value', one.value],
      ['Number', scale(one)],
      ['Window', one.window ? `${one.window.statistic} over ${span(one.window.seconds)}` : ''],
      ['Publishes', publishes(one)],
      [
        'Messages',
        `${one.payload === 'record' ? 'value, time and quality' : 'the value alone'}, QoS ${one.qos}${one.retained ? ', retained' : ''}`,
      ],
    ].filter(([, value]) => value),
  );
  const age = (at: string | null | undefined) => (at ? span((now - Date.parse(at)) / 1_000) : '');
</script>

<div class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_minmax(0,1fr)] border-t border-line text-sm">
  <div class="min-h-0 overflow-y-auto px-5 py-3" data-detail={one.name}>
    <dl class="grid grid-cols-[auto_1fr] gap-x-4 gap-y-0.5" aria-label="Facts">
      {#each facts as [name, value] (name)}
        <dt class="text-quiet">{name}</dt>
        <dd
          class="wrap-anywhere {name === 'Value' || name === 'Condition'
            ? 'font-mono text-xs leading-5'
            : ''}"
        >
          {value}
        </dd>
      {/each}
    </dl>
    <p class="mt-3">
      {plural(one.counts.heard, 'message')} heard, {count(one.counts.published)} published since the service started
      or the design changed.
    </p>
    <ul class="text-quiet">
      {#each silent(one.counts) as [number, words] (words)}<li>{number} not published: {words}</li>{/each}
    </ul>
    {#if one.failure}
      <div class="mt-2 rounded bg-warn-ground px-3 py-1 text-warn-ink" data-failure>
        <p>No value could be made, {moment(one.failure.at)}: {one.failure.words}.</p>
        <p><TopicText topic={one.failure.topic} /></p>
        <p class="font-mono text-xs wrap-anywhere">{one.failure.payload}</p>
      </div>
    {/if}
    <DerivedTrial {topics} />
  </div>
  <div class="min-h-0 overflow-y-auto border-l border-line">
    <table class="w-full tabular-nums" data-made>
      <thead class="sticky top-0 bg-panel text-left text-quiet">
        <tr class="border-b border-line">
          <th scope="col" class="py-1.5 pl-5 font-medium">Topic</th>
          <th scope="col" class="px-3 text-right font-medium">Value</th>
          <th scope="col" class="px-3 text-right font-medium">Age</th>
          <th scope="col" class="pr-5 pl-3 font-medium"><span class="sr-only">Quality</span></th>
        </tr>
      </thead>
      <tbody>
        {#each details.topics as made (made.topic)}
          <tr class="border-b border-line/60 align-top">
            <td class="py-1 pl-5">
              <a class="hover:underline" href="#/topic?name={encodeURIComponent(made.topic)}">
                <TopicText topic={made.topic} />
              </a>
            </td>
            <td class="px-3 py-1 text-right wrap-anywhere">{made.value ?? '–'}</td>
            <td class="px-3 py-1 text-right whitespace-nowrap">{age(made.made_at)}</td>
            <td class="py-1 pr-5 pl-3 {made.quality === 'stale' ? 'font-bold text-wrong' : 'text-quiet'}">
              {made.quality === 'stale' ? 'stale' : made.waits ? 'waits' : ''}
            </td>
          </tr>
        {:else}
          <tr><td colspan="4" class="px-5 py-6 text-center text-quiet">It has made nothing yet.</td></tr>
        {/each}
      </tbody>
    </table>
    {#if details.topics.length < one.topics}
      <p class="px-5 py-2 text-quiet">and {plural(one.topics - details.topics.length, 'topic')} more</p>
    {/if}
  </div>
</div>
