/** How charts look. */
import uPlot from 'uplot';

/** Height of the chart, CSS pixels. */
export const HEIGHT = 180;

/** What all charts have in common, in the colours of the place. */
function frame(place: HTMLElement) {
  const style = getComputedStyle(place);
  const colour = (name: string) => style.getPropertyValue(name).trim();
  const font = `12px ${style.fontFamily}`;
  const grid = { stroke: colour('--line'), width: 1 };
  const axis = { stroke: colour('--quiet'), font, grid, ticks: { show: false } };
  const options = {
    width: place.clientWidth,
    height: HEIGHT,
    legend: { show: true, live: true },
    // Where nobody points, the legend tells the newest values.
    hooks: { setCursor: [showNewest] },
    cursor: { points: { size: 6 }, drag: { x: false, y: false } },
  };
  return { colour, axis, options };
}

/** One value over time. */
export function valueOptions(place: HTMLElement, label: string): uPlot.Options {
  const { colour, axis, options } = frame(place);
  return {
    ...options,
    axes: [
      { ...axis, size: 30, values: (_, ticks) => ticks.map((at) => timeOfDay(at, 0)) },
      { ...axis, size: 60 },
    ],
    series: [
      { label: 'Time', value: (_, at) => (at === null ? '' : timeOfDay(at, 0)) },
      {
        label,
        stroke: colour('--moss'),
        width: 2,
        points: { size: 5, fill: colour('--moss') },
        value: (_, value) => (value === null ? '' : String(value)),
      },
    ],
  };
}

/** A line of a chart over time: its name, and the name of its colour. */
export interface ChartLine {
  label: string;
  colour: string;
}

/** A time that is marked, seconds since 1970. */
export interface Mark {
  from: number;
  to: number;
}

/**
 * Lines over the last minutes: of each first its peaks, pale, then its means, and then, if it is compared, those of an
 * earlier time, dashed. `marks` gives the times that are shaded.
 */
export function rangeOptions(
  place: HTMLElement,
  lines: readonly ChartLine[],
  minutes: number,
  compared: boolean,
  marks: () => readonly Mark[],
): uPlot.Options {
  const { colour, axis, options } = frame(place);
  const digits = (value: number) =>
    value.toLocaleString('en-GB', { maximumFractionDigits: value < 10 ? 2 : 1 });
  const line = (label: string, name: string): uPlot.Series => ({
    label,
    stroke: colour(name),
    width: 2,
    points: { show: false },
    value: (_, value) => (value == null ? '' : digits(value)),
  });
  const peak = ({ label, colour: name }: ChartLine): uPlot.Series => ({
    ...line(`${label}, peak`, name),
    stroke: `color-mix(in srgb, ${colour(name)} 35%, transparent)`,
    width: 1,
  });
  const then = ({ label, colour: name }: ChartLine): uPlot.Series => ({
    ...line(`${label}, before`, name),
    dash: [6, 4],
    width: 1.5,
  });
  const shade = (plot: uPlot) => {
    plot.ctx.save();
    plot.ctx.fillStyle = `color-mix(in srgb, ${colour('--quiet')} 18%, transparent)`;
    for (const { from, to } of marks()) {
      const left = Math.max(plot.valToPos(from, 'x', true), plot.bbox.left);
      const right = Math.min(plot.valToPos(to, 'x', true), plot.bbox.left + plot.bbox.width);
      if (right > left) plot.ctx.fillRect(left, plot.bbox.top, Math.max(right - left, 1), plot.bbox.height);
    }
    plot.ctx.restore();
  };
  return {
    ...options,
    hooks: { ...options.hooks, drawClear: [shade] },
    scales: {
      // The axis ends now, whether or not something was measured.
      x: { range: () => [Date.now() / 1000 - minutes * 60, Date.now() / 1000] },
      y: { range: (_, __, most) => [0, Math.max(1, (most ?? 0) * 1.1)] },
    },
    axes: [
      {
        ...axis,
        size: 30,
        space: minutes > 1_440 ? 110 : 70,
        values: (_, ticks) => ticks.map((at) => timeOfDay(at, minutes)),
      },
      { ...axis, size: 56 },
    ],
    series: [
      { label: 'Time', value: (_, at) => (at === null ? '' : timeOfDay(at, minutes > 1_440 ? minutes : 0)) },
      ...lines.map(peak),
      ...lines.map(({ label, colour: name }) => line(label, name)),
      ...(compared ? lines.map(then) : []),
    ],
  };
}

/** Puts a chart into its place, where it follows the room that there is; gives it, and what takes it away again. */
export function mountChart(place: HTMLElement, options: uPlot.Options): [uPlot, () => void] {
  const empty: uPlot.AlignedData = [[], ...options.series.slice(1).map(() => [])];
  const chart = new uPlot(options, empty, place);
  const resized = new ResizeObserver(() => chart.setSize({ width: place.clientWidth, height: HEIGHT }));
  resized.observe(place);
  void document.fonts.ready.then(() => chart.redraw());
  const unmount = () => {
    resized.disconnect();
    chart.destroy();
  };
  return [chart, unmount];
}

/** Lets the legend tell the newest values, unless somebody points at others. */
export function showNewest(plot: uPlot): void {
  if (plot.cursor.idx == null && plot.data[0].length > 0)
    plot.setLegend({ idx: plot.data[0].length - 1 }, false);
}

/** 24-hour time; with seconds for a single point or a short span, with the day for a long one. */
function timeOfDay(at: number, minutes: number): string {
  const seconds = minutes <= 15 ? '2-digit' : undefined;
  const time: Intl.DateTimeFormatOptions = {
    hour: '2-digit',
    minute: '2-digit',
    second: seconds,
    hour12: false,
  };
  const day: Intl.DateTimeFormatOptions = minutes > 1_440 ? { day: 'numeric', month: 'short' } : {};
  // Hours say nothing over months.
  const shown = minutes > 20_160 ? { ...day, year: '2-digit' as const } : { ...day, ...time };
  return new Date(at * 1000).toLocaleString('en-GB', shown);
}
