<script lang="ts">
  import { ToggleGroup } from 'bits-ui';

  import { SPANS, type Live } from '$lib/state/live.svelte';
  import type { Theme } from '$lib/state/theme.svelte';
  import ThroughputChart from './throughput-chart.svelte';

  interface Props {
    live: Live;
    theme: Theme;
  }

  const { live, theme }: Props = $props();
  const fine = $derived(live.minutes <= 60);
</script>

<section aria-label="Throughput" class="rounded-lg border border-line bg-panel px-5 py-3">
  <div class="flex items-center gap-4">
    <h2 class="font-semibold">Throughput</h2>
    <p class="text-xs text-quiet">
      messages per second: the lines are {fine ? '10 s' : '10 min'} moving averages, the pale ones
      {fine ? 'single seconds' : 'single minutes'}
    </p>
    <p class="text-xs {live.connected ? 'text-quiet' : 'font-bold text-wrong'}" data-live={live.connected}>
      {live.connected ? 'live' : 'not live: trying again'}
    </p>
    <ToggleGroup.Root
      type="single"
      aria-label="Span"
      class="ml-auto flex gap-1 text-sm"
      bind:value={() => String(live.minutes), (value) => value && live.show(Number(value))}
    >
      {#each SPANS as { minutes, name } (minutes)}
        <ToggleGroup.Item
          value={String(minutes)}
          class="rounded px-2 py-0.5 text-quiet hover:bg-page data-[state=on]:bg-moss data-[state=on]:text-panel"
        >
          {name}
        </ToggleGroup.Item>
      {/each}
    </ToggleGroup.Root>
  </div>
  <ThroughputChart columns={live.columns} minutes={live.minutes} dark={theme.dark} />
</section>
