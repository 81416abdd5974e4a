<script lang="ts">
  import uPlot from 'uplot';

  import { HEIGHT, showNewest, valueOptions } from '$lib/chart';

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
    const chart = new uPlot(valueOptions(place, label), [[], []], place);
    plot = chart;
    const resized = new ResizeObserver(() => chart.setSize({ width: place.clientWidth, height: HEIGHT }));
    resized.observe(place);
    void document.fonts.ready.then(() => chart.redraw());
    return () => {
      resized.disconnect();
      chart.destroy();
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
