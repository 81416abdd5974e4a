<script lang="ts">
  import type uPlot from 'uplot';

  import { mountChart, showNewest, valueOptions } from '$lib/chart';

  interface Props {
    /** Times in seconds since 1970, and values. */
    series: [number[], number[]];
    /** What the values are. */
    label: string;
    /** The chart takes its colours anew when this changes. */
    dark: boolean;
  }

  const { series, label, dark }: Props = $props();
  let place: HTMLDivElement;
  let plot: uPlot | undefined;

  $effect(() => {
    void dark;
    const [chart, unmount] = mountChart(place, valueOptions(place, label));
    plot = chart;
    return () => {
      unmount();
      plot = undefined;
    };
  });

  $effect(() => {
    void dark;
    void label;
    if (!plot) return;
    plot.setData(series);
    showNewest(plot);
  });
</script>

<div bind:this={place} class="min-h-[206px] w-full" role="img" aria-label="{label} over time"></div>
