/** One topic: what is known of it, and its messages while somebody looks. */
import { api, reasonOf, type TopicDetails, type TopicMessage } from '$api/client';
import { numbersOf } from '$lib/payload';
import { Poll } from '$lib/poll';

/** Between two looks, milliseconds. */
const PERIOD = 1_000;
/** Messages that are held in the page. */
const HELD = 600;

export class Topic {
  readonly name: string;
  #details = $state.raw<TopicDetails>();
  #messages = $state.raw<TopicMessage[]>([]);
  #trouble = $state('');
  readonly poll = new Poll(PERIOD, (signal) => this.look(signal));
  #shown = $state<number>();
  #other = $state<number>();
  #field = $state<string>();

  /** Places of numbers in the payloads, the newest message's first. */
  readonly fields = $derived.by(() => {
    const found: string[] = [];
    for (const message of this.#messages.slice(-20).reverse()) {
      for (const field of numbersOf(message.payload ?? '').keys())
        if (!found.includes(field)) found.push(field);
    }
    return found;
  });

  /** The number that is drawn. */
  readonly field = $derived(
    this.#field !== undefined && this.fields.includes(this.#field) ? this.#field : this.fields[0],
  );

  /** Times (seconds since 1970) and values of that number. */
  readonly series = $derived.by((): [number[], number[]] => {
    const field = this.field;
    const times: number[] = [];
    const values: number[] = [];
    if (field === undefined) return [times, values];
    for (const message of this.#messages) {
      const value = numbersOf(message.payload ?? '').get(field);
      if (value === undefined) continue;
      times.push(Date.parse(message.at) / 1000);
      values.push(value);
    }
    return [times, values];
  });

  /** Who published the messages that are held, and how many of them. */
  readonly publishers = $derived.by(() => {
    const counts: Record<string, number> = {};
    const about = this.#details?.about;
    if (about?.publisher) counts[about.publisher] = 0;
    for (const { publisher } of this.#messages) counts[publisher] = (counts[publisher] ?? 0) + 1;
    return Object.entries(counts).sort((one, other) => other[1] - one[1]);
  });

  /** The message that is looked at: the newest, unless one was chosen. */
  readonly shown = $derived(
    this.#messages.find((one) => one.number === this.#shown) ?? this.#messages[this.#messages.length - 1],
  );

  /** The message that it is compared with: the one before, unless another was chosen. */
  readonly other = $derived.by(() => {
    const chosen = this.#messages.find((one) => one.number === this.#other);
    return chosen ?? this.#messages.findLast((one) => one.number < (this.shown?.number ?? 0));
  });

  constructor(name: string) {
    this.name = name;
  }

  get details(): TopicDetails | undefined {
    return this.#details;
  }

  /** Oldest first. */
  get messages(): TopicMessage[] {
    return this.#messages;
  }

  get trouble(): string {
    return this.#trouble;
  }

  /** Whether a message was chosen, so that newer ones do not take its place. */
  get isHeld(): boolean {
    return this.#shown !== undefined;
  }

  choose(number: number | undefined): void {
    this.#shown = number;
    this.#other = undefined;
  }

  compareWith(number: number): void {
    // The newest would run away from under a comparison.
    this.#shown ??= this.shown?.number;
    this.#other = number;
  }

  draw(field: string): void {
    this.#field = field;
  }

  async look(signal?: AbortSignal): Promise<void> {
    try {
      const after = this.#messages[this.#messages.length - 1]?.number ?? 0;
      const query = { topic: this.name, after };
      const { data, error } = await api.GET('/api/v1/topics/topic', { params: { query }, signal });
      this.#trouble = data ? '' : reasonOf(error);
      if (!data) return;
      // After a restart, or a while in which nobody looked, numbers begin anew.
      if (this.#details && this.#details.gathered_since !== data.gathered_since) {
        this.#messages = [];
        this.#details = undefined;
        return;
      }
      this.#details = data;
      if (data.messages.length > 0) this.#messages = [...this.#messages, ...data.messages].slice(-HELD);
    } catch {
      if (signal?.aborted) return;
      this.#trouble = reasonOf(undefined);
    }
  }
}
