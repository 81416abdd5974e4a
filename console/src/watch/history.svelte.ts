/** A chart's range, what it is compared with, and what was measured in it. */
import uPlot from 'uplot';

import { api, type History, type HistoryRemark, type LiveReading } from '$api/client';
import { Poll } from '$lib/poll';
import { columns, KINDS, rangeOf, values, type KindName, type Value } from './history';

/** Ranges up to this, minutes, go on with each second's reading. */
const LIVE = 15;

/** What the moving average of a reading goes over, seconds. */
const AVERAGE = 10;

/** Points of each line. */
const POINTS = 500;

/** A second's reading: its values for the lines, and what was measured in this second alone. */
interface Second {
  at: number;
  lines: Value[];
  alone: number[];
}

export class Past {
  #kind = $state<KindName>('throughput');
  #minutes = $state(5);
  #earlier = $state(0);
  #past = $state.raw<History>();
  #then = $state.raw<History>();
  /** Each second's reading since the page was opened, of the live ranges. */
  #seconds = $state.raw<Second[]>([]);
  #trouble = $state('');
  /** When the past was read, milliseconds since 1970. */
  #readAt = 0;
  readonly #poll = new Poll(10_000, (signal) => this.#read(signal));

  get kind(): KindName {
    return this.#kind;
  }

  set kind(kind: KindName) {
    this.#kind = kind;
    this.#forget();
  }

  get minutes(): number {
    return this.#minutes;
  }

  set minutes(minutes: number) {
    this.#minutes = minutes;
    this.#forget();
  }

  get earlier(): number {
    return this.#earlier;
  }

  set earlier(minutes: number) {
    this.#earlier = minutes;
    this.#forget();
  }

  /** Why nothing is shown; empty if it is. */
  get trouble(): string {
    return this.#trouble;
  }

  /** Times without values and why, or with values that were made up. */
  get remarks(): HistoryRemark[] {
    return this.#past?.remarks ?? [];
  }

  /** From one point to the next, seconds. */
  get step(): number {
    return this.#past?.step_seconds ?? 10;
  }

  get isLive(): boolean {
    return this.#minutes <= LIVE;
  }

  /** Times; of each line peaks, and then of each the means; then those of the earlier range. */
  readonly data: uPlot.AlignedData = $derived(this.#columns());

  start(): () => void {
    return this.#poll.start();
  }

  /** Each second. */
  take(reading: LiveReading): void {
    const at = Date.parse(reading.at) / 1000;
    const { rates, average, sessions } = reading;
    const [means, alone] = {
      throughput: [
        [average.messages_in, average.messages_out],
        [rates.messages_in, rates.messages_out],
      ],
      latency: [[], []],
      sessions: [[sessions], [sessions]],
    }[this.#kind] as [number[], number[]];
    const known = this.#seconds.filter((second) => second.at >= at - LIVE * 60 && second.at < at);
    const within = known.filter((second) => second.at > at - AVERAGE);
    // The highest of the seconds that the mean is of.
    const peak = (place: number) => within.map((second) => second.alone[place] ?? 0);
    const lines = means.map((mean, place) => ({
      at,
      mean,
      peak: Math.max(mean, alone[place] ?? 0, ...peak(place)),
    }));
    this.#seconds = [...known, { at, lines, alone }];
  }

  #forget(): void {
    this.#past = undefined;
    this.#then = undefined;
    this.#seconds = [];
    void this.#poll.now();
  }

  async #read(signal: AbortSignal): Promise<void> {
    // Long ranges move slowly.
    if (this.#past && Date.now() - this.#readAt < this.step * 500) return;
    const [kind, minutes, earlier] = [this.#kind, this.#minutes, this.#earlier];
    const series = KINDS[kind].lines.map((line) => line.series).join(',');
    const to = Date.now();
    const get = (before: number) => {
      const range = rangeOf(to - before * 60_000, minutes);
      return api
        .GET('/api/v1/history', { params: { query: { series, points: POINTS, ...range } }, signal })
        .catch(() => ({ data: undefined }));
    };
    const [now, then] = await Promise.all([get(0), earlier > 0 ? get(earlier) : undefined]);
    if (signal.aborted) return;
    this.#trouble = now.data ? '' : 'The history can’t be read at the moment.';
    if (now.data) this.#past = now.data;
    if (then?.data) this.#then = then.data;
    this.#readAt = to;
  }

  #columns(): uPlot.AlignedData {
    const { scale, lines } = KINDS[this.#kind];
    const table = (history: History | undefined, later: number) =>
      lines.map((_, place) => {
        const stored = values(history?.series[place]?.points ?? [], scale, later);
        const newest = stored.at(-1)?.at ?? 0;
        const fresh =
          later === 0 && this.isLive
            ? this.#seconds.flatMap((second) => second.lines[place] ?? []).filter((one) => one.at > newest)
            : [];
        return columns([...stored, ...fresh], history?.step_seconds ?? 10);
      });
    const now = table(this.#past, 0);
    const then = this.#earlier > 0 ? table(this.#then, this.#earlier * 60) : [];
    const peaks = now.map(([at, , peak]): uPlot.AlignedData => [at, peak]);
    const means = [...now, ...then].map(([at, mean]): uPlot.AlignedData => [at, mean]);
    const all = [...peaks, ...means];
    // A gap of one line is none of another.
    return uPlot.join(
      all,
      all.map(() => [0, 2]),
    );
  }
}
