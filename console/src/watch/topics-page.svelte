<script lang="ts">
  import FilterMatch from './filter-match.svelte';
  import Panel from '$ui/panel.svelte';
  import TopicRows from './topic-rows.svelte';
  import { plural, rate, span } from '$lib/format';
  import { Topics } from './topics.svelte';
  import Table from '$ui/table.svelte';

  const topics = new Topics();
  const total = $derived(topics.branch('')?.total);
  const columns = [
    'Level',
    '>Topics',
    '>Messages/s',
    'Last value',
    'Trend',
    '>Last',
    'Retained',
    'Planned',
    '>Subscribers',
  ];
  const age = (at: string) => span((Date.now() - Date.parse(at)) / 1000);

  $effect(() => topics.poll.start());
</script>

<main class="grid min-h-0 flex-1 grid-cols-[minmax(0,3fr)_minmax(0,1fr)] gap-4 px-6 py-4">
  <div class="flex min-h-0 flex-col">
    <Panel
      title="Topics"
      note={total
        ? `${plural(total.topics, 'topic')}, ${rate(total.rate)} messages/s; refreshes every 2 s`
        : ''}
      fills
    >
      {#snippet tools()}
        <label class="flex items-center gap-2 text-sm">
          <input type="checkbox" bind:checked={topics.busiest} onchange={() => topics.look()} />
          Busiest first
        </label>
      {/snippet}
      <Table
        {columns}
        dense
        count={total?.topics ?? 1}
        empty="No messages have been published since the service started."
      >
        <TopicRows {topics} path="" depth={0} />
      </Table>
      {#if topics.trouble}<p class="px-5 py-2 text-sm text-wrong" role="alert">{topics.trouble}</p>{/if}
    </Panel>
  </div>
  <div class="flex min-h-0 flex-col gap-4">
    <Panel title="Filter matches" fills><FilterMatch {topics} /></Panel>
    <Panel title="Drift" note="differences between live traffic and the plan" fills>
      <ul class="min-h-0 flex-1 overflow-y-auto text-sm" data-drift>
        {#each topics.drift as entry (`${entry.kind} ${entry.topic}`)}
          <li class="border-t border-line/60 px-5 py-2">
            <p class="flex gap-2">
              <span class="font-mono text-xs font-semibold break-all">{entry.topic}</span>
              <span class="ml-auto shrink-0 text-xs text-quiet">
                {entry.kind}{entry.count > 0 ? `, ${plural(entry.count, 'time')}` : ''}, {age(entry.last)} ago
              </span>
            </p>
            <p class="text-xs">{entry.explanation}{entry.identity ? `; ${entry.identity}` : ''}</p>
            {#if entry.kind === 'unplanned'}
              <a
                class="text-xs font-medium text-moss hover:underline"
                href="#/design?plan={encodeURIComponent(entry.topic)}"
              >
                Add to draft
              </a>
            {/if}
            {#if entry.sample}<p class="truncate font-mono text-xs text-quiet">{entry.sample}</p>{/if}
          </li>
        {:else}
          <li class="px-5 py-4 text-quiet">
            {topics.branch('')?.has_plan === false
              ? 'The blueprint has no planned topics yet.'
              : 'No drift: live traffic matches the plan.'}
          </li>
        {/each}
      </ul>
    </Panel>
  </div>
</main>
