/** Live readings from the service and the throughput of the last while. */
import { api, type LiveReading } from '$api/client';
import { toColumns, type Columns, type Point } from './throughput';

/** Spans that can be looked at, minutes. Up to an hour the points are a second apart, else a minute. */
export const SPANS = [
  { minutes: 5, name: '5 min' },
  { minutes: 15, name: '15 min' },
  { minutes: 60, name: '1 h' },
  { minutes: 1_440, name: '24 h' },
  { minutes: 10_080, name: '7 days' },
] as const;

/** Points in the moving average: ten seconds, or ten minutes for spans beyond an hour. */
const WINDOW = 10;

export class Live {
  #reading = $state.raw<LiveReading>();
  #connected = $state(false);
  #points = $state.raw<Point[]>([]);
  #resolution = $state(1);
  #minutes = $state(5);
  #source: EventSource | undefined;
  #reload: ReturnType<typeof setInterval> | undefined;

  /** The newest reading. */
  get reading(): LiveReading | undefined {
    return this.#reading;
  }

  /** Whether readings come. */
  get connected(): boolean {
    return this.#connected;
  }

  get minutes(): number {
    return this.#minutes;
  }

  readonly columns: Columns = $derived(toColumns(this.#points, this.#resolution, WINDOW));

  start(): void {
    void this.show(this.#minutes);
    this.#source = new EventSource('/api/v1/live');
    this.#source.addEventListener('open', () => {
      // Also after an interruption: what was missed is in the past that the service keeps.
      this.#connected = true;
      void this.show(this.#minutes);
    });
    this.#source.addEventListener('error', () => (this.#connected = false));
    this.#source.addEventListener('reading', (event) => this.#take(JSON.parse(event.data) as LiveReading));
    this.#reload = setInterval(() => {
      if (this.#resolution > 1) void this.show(this.#minutes);
    }, 60_000);
  }

  stop(): void {
    this.#source?.close();
    clearInterval(this.#reload);
    this.#connected = false;
  }

  /** Shows the last so many minutes. */
  async show(minutes: number): Promise<void> {
    this.#minutes = minutes;
    const { data } = await api
      .GET('/api/v1/throughput', { params: { query: { minutes } } })
      .catch(() => ({ data: undefined }));
    // A later choice may have overtaken this answer.
    if (!data || minutes !== this.#minutes) return;
    const past = data.points.map((point) => ({
      at: Date.parse(point.at) / 1000,
      in: point.messages_in,
      out: point.messages_out,
    }));
    const newest = past.at(-1)?.at ?? 0;
    const fresh =
      data.resolution_seconds === 1 ? this.#points.filter((point) => point.at > newest + 0.5) : [];
    this.#resolution = data.resolution_seconds;
    this.#points = [...past, ...fresh];
  }

  #take(reading: LiveReading): void {
    this.#reading = reading;
    if (this.#resolution > 1) return;
    const at = Date.parse(reading.at) / 1000;
    const point = { at, in: reading.rates.messages_in, out: reading.rates.messages_out };
    const oldest = at - this.#minutes * 60;
    this.#points = [...this.#points.filter((known) => known.at >= oldest && known.at < at), point];
  }
}
