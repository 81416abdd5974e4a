/** What was measured, as columns for a chart: gaps where nothing was measured, and an earlier range laid over. */
import type { HistoryPoint } from '$api/client';

/** One series of a chart. */
export interface Line {
  /** Its name in the API. */
  series: string;
  /** What it is called in the legend. */
  label: string;
  /** The name of its colour. */
  colour: string;
}

/** What one chart shows. */
export interface Kind {
  name: string;
  /** What its numbers are. */
  unit: string;
  /** By what numbers of the API are multiplied. */
  scale: number;
  lines: Line[];
}

export const KINDS = {
  throughput: {
    name: 'Throughput',
    unit: 'Messages per second',
    scale: 1,
    lines: [
      { series: 'messages_in', label: 'In', colour: '--moss' },
      { series: 'messages_out', label: 'Out', colour: '--rain' },
    ],
  },
  latency: {
    name: 'Latency',
    unit: 'Milliseconds from publisher to receiver',
    scale: 1_000,
    lines: [
      { series: 'publish_to_deliver/median', label: 'Median', colour: '--moss' },
      { series: 'publish_to_deliver/p99', label: '99 of 100', colour: '--rain' },
    ],
  },
  sessions: {
    name: 'Sessions',
    unit: 'Sessions',
    scale: 1,
    lines: [
      { series: 'sessions_connected', label: 'Connected', colour: '--moss' },
      { series: 'sessions_away', label: 'Disconnected', colour: '--rain' },
    ],
  },
} satisfies Record<string, Kind>;

export type KindName = keyof typeof KINDS;

/** Ranges that can be looked at, minutes back from now. */
export const RANGES = [
  { minutes: 5, name: '5 min' },
  { minutes: 15, name: '15 min' },
  { minutes: 60, name: '1 h' },
  { minutes: 1_440, name: '24 h' },
  { minutes: 10_080, name: '7 d' },
  { minutes: 129_600, name: '90 d' },
  { minutes: 525_600, name: '1 y' },
] as const;

/** What a range can be compared with: the same time so many minutes earlier. */
export const EARLIER = [
  { minutes: 0, name: 'nothing' },
  { minutes: 1_440, name: 'the day before' },
  { minutes: 10_080, name: 'the week before' },
  { minutes: 129_600, name: '90 days before' },
] as const;

/** The range of so many minutes that ends then, milliseconds since 1970, as the API reads it. */
export function rangeOf(end: number, minutes: number): { from: string; to: string } {
  return { from: new Date(end - minutes * 60_000).toISOString(), to: new Date(end).toISOString() };
}

/** A value at a time, seconds since 1970, with the highest single value that went into it. */
export interface Value {
  at: number;
  mean: number;
  peak: number;
}

export function values(points: readonly HistoryPoint[], scale: number, later: number): Value[] {
  return points.map(({ at, mean, maximum }) => ({
    at: Date.parse(at) / 1000 + later,
    mean: mean * scale,
    peak: maximum * scale,
  }));
}

/** Times, means and peaks; `null` is a gap. */
export type Columns = [number[], (number | null)[], (number | null)[]];

/**
 * @param all oldest first
 * @param step seconds between values; three times as long without one is a gap
 */
export function columns(all: readonly Value[], step: number): Columns {
  const [at, means, peaks]: Columns = [[], [], []];
  let last: Value | undefined;
  for (const value of all) {
    if (last && value.at - last.at > 3 * step) {
      at.push(last.at + step);
      means.push(null);
      peaks.push(null);
    }
    at.push(value.at);
    means.push(value.mean);
    peaks.push(value.peak);
    last = value;
  }
  return [at, means, peaks];
}

/** How much more or less one is than the other, for people; empty where there is nothing to compare with. */
export function change(now: number, then: number | undefined): string {
  if (then === undefined || then <= 0) return '';
  const percent = Math.round((now / then - 1) * 100);
  if (percent === 0) return 'as yesterday';
  if (percent >= 900) return `${Math.round(now / then)} × yesterday`;
  return `${percent > 0 ? '+' : '−'}${Math.abs(percent)} % against yesterday`;
}
