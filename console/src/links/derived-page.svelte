<script lang="ts">
  import { count, plural, span } from '$lib/format';
  import Panel from '$ui/panel.svelte';
  import Table from '$ui/table.svelte';
  import TopicText from '$ui/topic-text.svelte';
  import DerivedDetail from './derived-detail.svelte';
  import { DerivedTopics } from './derived.svelte';

  const topics = new DerivedTopics();
  const columns = ['Derived topic', 'From', 'To', '>Topics', '>Heard', '>Published', '>Failed', '>Last'];
  const list = $derived(topics.all ?? []);
  const failing = $derived(list.filter(({ counts }) => counts.failed > 0).length);
  const note = $derived(
    topics.all === undefined
      ? ''
      : failing
        ? `no value could be made of some messages of ${plural(failing, 'derived topic')}`
        : 'values that the broker makes of messages; select one to see what it makes',
  );
  let now = $state(Date.now());

  $effect(() => topics.poll.start());
  // How long something lasts is as old as what is shown of it.
  $effect(() => {
    if (topics.all) now = Date.now();
  });
</script>

<main class="flex min-h-0 min-w-0 flex-1 flex-col gap-4 px-6 py-4">
  {#if topics.trouble}
    <p class="rounded bg-warn-ground px-3 py-1 text-sm text-warn-ink" role="alert">
      No derived topics are made now. {topics.trouble}
    </p>
  {/if}
  <div class="flex min-h-0 flex-2 flex-col">
    <Panel title="Derived topics" {note} fills>
      <Table
        {columns}
        count={list.length}
        empty={topics.all
          ? 'No derived topics. Add [[derived]] to the blueprint; docs/STREAMS.md tells how.'
          : 'Looking…'}
      >
        {#each list as one (one.name)}
          {@const open = topics.shown === one.name}
          <tr
            class="border-b border-line/60 align-top hover:bg-page {open ? 'bg-page' : ''}"
            data-derived={one.name}
          >
            <td class="py-1.5 pr-3 pl-5 whitespace-nowrap">
              <button
                class="text-left font-medium hover:underline"
                aria-pressed={open}
                onclick={() => topics.choose(one.name)}
              >
                {one.name}
              </button>
            </td>
            <td class="px-3 py-1.5 wrap-anywhere text-quiet">
              {#each one.from as source (source.name)}
                <span class="block"
                  >{source.name ? `${source.name}: ` : ''}<TopicText topic={source.filter} /></span
                >
              {/each}
            </td>
            <td class="px-3 py-1.5"><TopicText topic={one.to} /></td>
            <td class="px-3 py-1.5 text-right">{count(one.topics)}</td>
            <td class="px-3 py-1.5 text-right">{count(one.counts.heard)}</td>
            <td class="px-3 py-1.5 text-right">{count(one.counts.published)}</td>
            <td class="px-3 py-1.5 text-right {one.counts.failed ? 'font-bold text-wrong' : ''}">
              {count(one.counts.failed)}
            </td>
            <td class="py-1.5 pr-5 pl-3 text-right whitespace-nowrap">
              {one.published_at ? `${span((now - Date.parse(one.published_at)) / 1_000)} ago` : 'never'}
            </td>
          </tr>
        {/each}
      </Table>
    </Panel>
  </div>
  {#if topics.details}
    <div class="flex min-h-0 flex-3 flex-col">
      <Panel title={topics.shown} note={topics.details.derived.purpose} fills>
        <DerivedDetail details={topics.details} {topics} {now} />
      </Panel>
    </div>
  {/if}
</main>
