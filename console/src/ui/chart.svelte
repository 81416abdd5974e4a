<script lang="ts">
  import type uPlot from 'uplot';

  import { mountChart, showNewest } from './chart';

  interface Props {
    /** Makes the chart's options, in the colours of its place. The chart is made anew when this changes. */
    options: (place: HTMLElement) => uPlot.Options;
    /** Times in seconds since 1970, and the values of each series. */
    data: uPlot.AlignedData;
    /** What is shown, for those who can't see it. */
    label: string;
    /** The chart takes its colours anew when this changes. */
    dark: boolean;
  }

  const { options, data, label, dark }: Props = $props();
  let place: HTMLDivElement;
  let plot = $state.raw<uPlot>();

  // A chart is made for one set of options and one theme; new data only moves it.
  $effect(() => {
    void dark;
    const [chart, unmount] = mountChart(place, options(place));
    plot = chart;
    return () => {
      unmount();
      plot = undefined;
    };
  });

  $effect(() => {
    if (!plot) return;
    plot.setData(data);
    showNewest(plot);
  });
</script>

<div bind:this={place} class="min-h-[206px] w-full" role="img" aria-label={label}></div>
