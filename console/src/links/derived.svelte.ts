/** Derived topics, what one of them makes, and what it would make of a message. */
import {
  api,
  reasonOf,
  type DerivedDetails,
  type DerivedList,
  type DerivedTrialOutcome,
  type DerivedView,
} from '$api/client';
import { Poll } from '$lib/poll';

/** Between two looks, milliseconds. */
const PERIOD = 2_000;
/** Topics of one that are shown. */
const TOPICS = 100;

export class DerivedTopics {
  #list = $state.raw<DerivedList>();
  #details = $state.raw<DerivedDetails>();
  #chosen = $state('');
  #outcomes = $state.raw<DerivedTrialOutcome[]>();
  #refusal = $state('');
  topic = $state('');
  payload = $state('');
  readonly poll = new Poll(PERIOD, (signal) => this.#look(signal));

  /** Nothing before they are known. */
  get all(): DerivedView[] | undefined {
    return this.#list?.derived;
  }

  /** Why none is made now; empty if they are. */
  get trouble(): string {
    return this.#list?.trouble ?? '';
  }

  /** The one that is looked at: the first, unless another was chosen. */
  get shown(): string {
    const all = this.all ?? [];
    return (all.find(({ name }) => name === this.#chosen) ?? all[0])?.name ?? '';
  }

  /** What is known of the one that is looked at. */
  get details(): DerivedDetails | undefined {
    return this.#details?.derived.name === this.shown ? this.#details : undefined;
  }

  /** What would become of the message that was tried; nothing before one was. */
  get outcomes(): DerivedTrialOutcome[] | undefined {
    return this.#outcomes;
  }

  /** Why it could not be tried; empty if it could. */
  get refusal(): string {
    return this.#refusal;
  }

  async choose(name: string): Promise<void> {
    this.#chosen = name;
    this.#outcomes = undefined;
    this.#refusal = '';
    await this.poll.now();
  }

  async #look(signal: AbortSignal): Promise<void> {
    try {
      const { data } = await api.GET('/api/v1/derived', { signal });
      if (data) this.#list = data;
      if (!this.shown) return;
      const params = { path: { name: this.shown }, query: { limit: TOPICS } };
      const details = await api.GET('/api/v1/derived/{name}', { params, signal });
      if (details.data) this.#details = details.data;
    } catch {
      // The bar at the top says that the service is away.
    }
  }

  /** What would become of the message that is written down. */
  async try(): Promise<void> {
    const name = this.shown;
    const body = { topic: this.topic, payload: this.payload };
    try {
      const { data, error } = await api.POST('/api/v1/derived/{name}/trial', {
        params: { path: { name } },
        body,
      });
      if (name !== this.shown) return;
      this.#outcomes = data?.outcomes;
      this.#refusal = data ? '' : reasonOf(error);
    } catch {
      this.#outcomes = undefined;
      this.#refusal = reasonOf(undefined);
    }
  }
}
