/** Throughput as columns for a chart: moving averages, and gaps where the service was not running. */

export interface Point {
  /** End of the span, seconds since 1970. */
  at: number;
  /** Messages in per second. */
  in: number;
  /** Messages out per second. */
  out: number;
}

/** Times, averages and single values; `null` is a gap. */
export interface Columns {
  at: number[];
  in: (number | null)[];
  out: (number | null)[];
  inAverage: (number | null)[];
  outAverage: (number | null)[];
}

/**
 * @param points oldest first
 * @param resolution seconds between points; three times as long without one is a gap
 * @param window how many points the moving average takes, this one included
 */
export function toColumns(points: readonly Point[], resolution: number, window: number): Columns {
  const columns: Columns = { at: [], in: [], out: [], inAverage: [], outAverage: [] };
  let run: Point[] = [];
  let last: Point | undefined;
  for (const point of points) {
    if (last && point.at - last.at > 3 * resolution) {
      columns.at.push(last.at + resolution);
      for (const name of ['in', 'out', 'inAverage', 'outAverage'] as const) columns[name].push(null);
      run = [];
    }
    run.push(point);
    if (run.length > window) run.shift();
    columns.at.push(point.at);
    columns.in.push(point.in);
    columns.out.push(point.out);
    columns.inAverage.push(run.reduce((sum, each) => sum + each.in, 0) / run.length);
    columns.outAverage.push(run.reduce((sum, each) => sum + each.out, 0) / run.length);
    last = point;
  }
  return columns;
}
