<script lang="ts">
  import { ToggleGroup } from 'bits-ui';
  import type uPlot from 'uplot';

  import { SPANS, type Live } from './live.svelte';
  import type { Theme } from '$shell/theme.svelte';
  import Chart from '$ui/chart.svelte';
  import { throughputOptions } from '$ui/chart';

  interface Props {
    live: Live;
    theme: Theme;
  }

  const { live, theme }: Props = $props();
  const fine = $derived(live.minutes <= 60);
  const options = $derived.by(() => {
    const minutes = live.minutes;
    return (place: HTMLElement) => throughputOptions(place, minutes);
  });
  const data = $derived<uPlot.AlignedData>([
    live.columns.at,
    live.columns.in,
    live.columns.out,
    live.columns.inAverage,
    live.columns.outAverage,
  ]);
</script>

<section aria-label="Throughput" class="rounded-lg border border-line bg-panel px-5 py-3">
  <div class="flex items-center gap-4">
    <h2 class="font-semibold">Throughput</h2>
    <p class="text-xs text-quiet">
      Messages per second. Bold lines show the {fine ? '10 s' : '10 min'} moving average, pale lines single {fine
        ? 'seconds'
        : 'minutes'}.
    </p>
    <p class="text-xs {live.connected ? 'text-quiet' : 'font-bold text-wrong'}" data-live={live.connected}>
      {live.connected ? 'Live' : 'Reconnecting…'}
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
  <div class="mt-1"><Chart {options} {data} label="Messages per second over time" dark={theme.dark} /></div>
</section>
