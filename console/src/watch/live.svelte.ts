/** Live readings from the service, one each second. */
import type { LiveReading } from '$api/client';

export class Live {
  #reading = $state.raw<LiveReading>();
  #connected = $state(false);
  #source: EventSource | undefined;
  readonly #each: (reading: LiveReading) => void;

  /** `each` is told of every reading. */
  constructor(each: (reading: LiveReading) => void) {
    this.#each = each;
  }

  /** The newest reading. */
  get reading(): LiveReading | undefined {
    return this.#reading;
  }

  /** Whether readings come. */
  get connected(): boolean {
    return this.#connected;
  }

  start(): void {
    this.#source = new EventSource('/api/v1/live');
    this.#source.addEventListener('open', () => (this.#connected = true));
    this.#source.addEventListener('error', () => (this.#connected = false));
    this.#source.addEventListener('reading', (event) => {
      const reading = JSON.parse(event.data) as LiveReading;
      this.#reading = reading;
      this.#each(reading);
    });
  }

  stop(): void {
    this.#source?.close();
    this.#connected = false;
  }
}
