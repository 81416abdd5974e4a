<script lang="ts">
  import { router } from 'svelte-spa-router';

  import Panel from '$ui/panel.svelte';
  import TopicFacts from './topic-facts.svelte';
  import TopicMessages from './topic-messages.svelte';
  import Chart from '$ui/chart.svelte';
  import { valueOptions } from '$ui/chart';
  import { count, moment } from '$lib/format';
  import { shell } from '$shell/context';
  import { Topic } from './topic.svelte';

  const { theme } = shell();
  const name = $derived(new URLSearchParams(router.querystring).get('name') ?? '');
  const topic = $derived(new Topic(name));
  const details = $derived(topic.details);
  const label = $derived(topic.field === '' ? 'Value' : (topic.field ?? 'Value'));

  const options = $derived.by(() => {
    const name = label;
    return (place: HTMLElement) => valueOptions(place, name);
  });

  // While the page is left there is no topic any more.
  $effect(() => (topic.name === '' ? undefined : topic.poll.start()));
</script>

<main class="grid min-h-0 flex-1 grid-cols-[minmax(0,7fr)_minmax(0,3fr)] gap-4 px-6 py-4">
  <div class="flex min-h-0 flex-col gap-4">
    <Panel title={name}>
      {#snippet tools()}
        {#if topic.fields.length > 1}
          <label class="text-sm">
            Field
            <select
              class="field font-mono text-xs"
              value={topic.field}
              onchange={(event) => topic.draw(event.currentTarget.value)}
            >
              {#each topic.fields as field (field)}<option value={field}>{field || 'payload'}</option>{/each}
            </select>
          </label>
        {/if}
      {/snippet}
      {#if topic.field !== undefined}
        <div class="px-5 pb-2" data-chart={topic.field}>
          <Chart {options} data={topic.series} label="{label} over time" dark={theme.dark} />
        </div>
      {:else}
        <p class="px-5 pb-4 text-sm text-quiet">
          {topic.messages.length > 0
            ? 'These payloads contain no numbers to chart.'
            : 'Numbers are charted as messages arrive.'}
        </p>
      {/if}
    </Panel>
    <Panel
      title="Messages"
      note={details
        ? `collected since ${moment(details.gathered_since)}, up to 20 per second${details.left_out > 0 ? `; ${count(details.left_out)} skipped` : ''}`
        : topic.trouble}
      fills
    >
      <TopicMessages {topic} />
    </Panel>
  </div>
  <div class="flex min-h-0 flex-col">
    <Panel title="Details" note={topic.trouble} fills><TopicFacts {topic} /></Panel>
  </div>
</main>
