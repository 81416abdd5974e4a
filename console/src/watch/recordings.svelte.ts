/** Recordings of live messages: which there are, what one of them holds, what became of one message. */
import { api, reasonOf, type RecordedJourney, type RecordedMessage, type RecordingView } from '$api/client';
import { Poll } from '$lib/poll';

/** Between two looks, milliseconds. */
const PERIOD = 1_000;
/** Messages that are listed at most. */
const LISTED = 200;

export class Recordings {
  #list = $state.raw<RecordingView[]>([]);
  #chosen = $state<number>();
  #messages = $state.raw<RecordedMessage[]>([]);
  #journey = $state.raw<RecordedJourney>();
  #trouble = $state('');
  readonly poll = new Poll(PERIOD, (signal) => this.look(signal));
  filter = $state('');
  seconds = $state(60);

  get list(): RecordingView[] {
    return this.#list;
  }

  /** The recording that is looked at. */
  get chosen(): RecordingView | undefined {
    return this.#list.find((one) => one.number === this.#chosen);
  }

  /** Its messages, the newest first. */
  get messages(): RecordedMessage[] {
    return this.#messages;
  }

  /** What became of the message that is looked at. */
  get journey(): RecordedJourney | undefined {
    return this.#journey;
  }

  get trouble(): string {
    return this.#trouble;
  }

  /** Looks at what there is. */
  async look(signal?: AbortSignal): Promise<void> {
    try {
      const { data, error } = await api.GET('/api/v1/recordings', { signal });
      this.#trouble = data ? '' : reasonOf(error);
      if (!data) return;
      this.#list = data;
      this.#chosen ??= data[0]?.number;
      if (!this.chosen) this.#chosen = data[0]?.number;
      const number = this.#chosen;
      if (number === undefined) return;
      const params = { path: { number }, query: { limit: LISTED } };
      const details = await api.GET('/api/v1/recordings/{number}', { params, signal });
      // Another may have been chosen meanwhile.
      if (details.data && this.#chosen === number) this.#messages = details.data.messages;
      const shown = this.#journey?.message.number;
      if (shown !== undefined) await this.show(shown, signal);
    } catch {
      if (signal?.aborted) return;
      this.#trouble = reasonOf(undefined);
    }
  }

  async begin(): Promise<void> {
    const body = { filter: this.filter, seconds: this.seconds };
    const { data, error } = await api.POST('/api/v1/recordings', { body });
    if (data) await this.choose(data.number);
    else this.#trouble = reasonOf(error);
  }

  async end(number: number): Promise<void> {
    const { error } = await api.POST('/api/v1/recordings/{number}/stop', { params: { path: { number } } });
    await this.look();
    if (error) this.#trouble = reasonOf(error);
  }

  async choose(number: number): Promise<void> {
    this.#chosen = number;
    this.#messages = [];
    this.#journey = undefined;
    await this.look();
  }

  /** Looks at one message. */
  async show(number: number, signal?: AbortSignal): Promise<void> {
    const params = { path: { number } };
    const { data } = await api.GET('/api/v1/recordings/messages/{number}', { params, signal });
    // One that has made room for newer ones stays in view.
    if (data) this.#journey = data;
  }
}
