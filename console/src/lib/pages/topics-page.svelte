<script lang="ts">
  import FilterMatch from '$lib/components/filter-match.svelte';
  import Panel from '$lib/components/panel.svelte';
  import TopicRows from '$lib/components/topic-rows.svelte';
  import { count, rate, span } from '$lib/format';
  import { Topics } from '$lib/state/topics.svelte';

  const topics = new Topics();
  const total = $derived(topics.branch('')?.total);
  const headings = ['Level', 'Topics', 'Rate/s', 'Last value', 'Over time', 'Ago', 'Kept', 'Plan', 'Readers'];
  const age = (at: string) => span((Date.now() - Date.parse(at)) / 1000);

  $effect(() => topics.poll.start());
</script>

<main class="grid min-h-0 flex-1 grid-cols-[minmax(0,5fr)_minmax(0,2fr)] gap-4 px-6 py-4">
  <div class="flex min-h-0 flex-col">
    <Panel
      title="Topics"
      note={total
        ? `${count(total.topics)} topics, ${rate(total.rate)} messages/s; looked at every 2 s, numbers every 5 s at most`
        : ''}
      fills
    >
      {#snippet tools()}
        <label class="flex items-center gap-2 text-sm">
          <input type="checkbox" bind:checked={topics.busiest} onchange={() => topics.look()} />
          Busiest first
        </label>
      {/snippet}
      <div class="min-h-0 flex-1 overflow-y-auto">
        <table class="w-full text-sm tabular-nums">
          <thead class="sticky top-0 bg-panel text-quiet">
            <tr class="border-y border-line">
              {#each headings as heading, index (heading)}
                <th
                  scope="col"
                  class="px-2 py-1.5 font-medium whitespace-nowrap first:pl-5 last:pr-5
                    {[0, 3, 4, 6, 7].includes(index) ? 'text-left' : 'text-right'}"
                >
                  {heading}
                </th>
              {/each}
            </tr>
          </thead>
          <tbody>
            <TopicRows {topics} path="" depth={0} />
          </tbody>
        </table>
        {#if topics.trouble}<p class="px-5 py-2 text-sm text-wrong" role="alert">{topics.trouble}</p>{/if}
        {#if total?.topics === 0}
          <p class="p-6 text-center text-sm text-quiet">Nothing was published since the service started.</p>
        {/if}
      </div>
    </Panel>
  </div>
  <div class="flex min-h-0 flex-col gap-4">
    <Panel title="What a filter catches" fills><FilterMatch {topics} /></Panel>
    <Panel title="Drift" note="where live traffic and the plan differ" fills>
      <ul class="min-h-0 flex-1 overflow-y-auto text-sm" data-drift>
        {#each topics.drift as entry (`${entry.kind} ${entry.topic}`)}
          <li class="border-t border-line/60 px-5 py-2">
            <p class="flex gap-2">
              <span class="font-mono text-xs font-semibold break-all">{entry.topic}</span>
              <span class="ml-auto shrink-0 text-xs text-quiet">
                {entry.kind}{entry.count > 0 ? `, ${count(entry.count)} ×` : ''}, {age(entry.last)} ago
              </span>
            </p>
            <p class="text-xs">{entry.words}{entry.identity ? `; ${entry.identity}` : ''}</p>
            {#if entry.kind === 'unplanned'}
              <a
                class="text-xs font-medium text-moss hover:underline"
                href="#/design?plan={encodeURIComponent(entry.topic)}"
              >
                Take it into a draft
              </a>
            {/if}
            {#if entry.sample}<p class="truncate font-mono text-xs text-quiet">{entry.sample}</p>{/if}
          </li>
        {:else}
          <li class="px-5 py-4 text-quiet">Traffic and plan agree, or nothing is planned.</li>
        {/each}
      </ul>
    </Panel>
  </div>
</main>
