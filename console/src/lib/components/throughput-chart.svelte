<script lang="ts">
  import type uPlot from 'uplot';

  import { chartOptions, mountChart, showNewest } from '$lib/chart';
  import type { Columns } from '$lib/throughput';

  interface Props {
    columns: Columns;
    /** Width of the time axis, minutes. */
    minutes: number;
    /** The chart takes its colours anew when this changes. */
    dark: boolean;
  }

  const { columns, minutes, dark }: Props = $props();
  let place: HTMLDivElement;
  let plot: uPlot | undefined;

  const data = $derived<uPlot.AlignedData>([
    columns.at,
    columns.in,
    columns.out,
    columns.inAverage,
    columns.outAverage,
  ]);

  // A chart is made for one span and one theme; new data only moves it.
  $effect(() => {
    void dark;
    const [chart, unmount] = mountChart(place, chartOptions(place, minutes));
    plot = chart;
    return () => {
      unmount();
      plot = undefined;
    };
  });

  $effect(() => {
    void dark;
    void minutes;
    if (!plot) return;
    plot.setData(data);
    showNewest(plot);
  });
</script>

<div
  bind:this={place}
  class="mt-1 min-h-[206px] w-full"
  role="img"
  aria-label="Messages per second over time"
></div>
