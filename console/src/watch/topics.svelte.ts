/** The live topic hierarchy as it is opened, what a filter catches, and where traffic and plan differ. */
import {
  api,
  reasonOf,
  type DriftView,
  type TopicList,
  type SubscriptionList,
  type TopicMatch,
} from '$api/client';
import { Poll } from '$lib/poll';

/** Between two looks, milliseconds. */
const PERIOD = 2_000;
/** Rates of a branch that are remembered, for drawing them. */
const REMEMBERED = 30;
/** Levels of one branch that are listed. */
const LISTED = 100;

export class Topics {
  /** Branches that are open, by path; the whole is ''. */
  #open = $state.raw<Record<string, TopicList>>({});
  #drift = $state.raw<DriftView[]>([]);
  #match = $state.raw<TopicMatch>();
  #subscribers = $state.raw<SubscriptionList>();
  #wrong = $state('');
  #trouble = $state('');
  /** Rates of the levels that are listed, as they were seen, oldest first. */
  #rates = $state.raw<Record<string, number[]>>({});
  readonly poll = new Poll(PERIOD, (signal) => this.look(signal));
  #asked = 0;
  filter = $state('');
  busiest = $state(false);

  get drift(): DriftView[] {
    return this.#drift;
  }

  /** Who receives what is published to topics of the filter. */
  get subscribers(): SubscriptionList | undefined {
    return this.#subscribers;
  }

  get match(): TopicMatch | undefined {
    return this.#match;
  }

  /** What is wrong with the filter; empty if nothing is. */
  get wrong(): string {
    return this.#wrong;
  }

  get trouble(): string {
    return this.#trouble;
  }

  /** How the rate of a branch went since it is looked at. */
  rates(path: string): readonly number[] {
    return this.#rates[path] ?? [];
  }

  branch(path: string): TopicList | undefined {
    return this.#open[path];
  }

  /** Looks at what is open. */
  async look(signal?: AbortSignal): Promise<void> {
    try {
      const paths = ['', ...Object.keys(this.#open).filter((path) => path !== '')];
      const [drift, ...branches] = await Promise.all([
        api.GET('/api/v1/topics/drift', { signal }),
        ...paths.map((path) => this.#fetch(path, signal)),
      ]);
      if (!drift.data) {
        this.#trouble = reasonOf(drift.error);
        return;
      }
      // What was opened or closed meanwhile stays so.
      const open = { ...this.#open };
      paths.forEach((path, index) => {
        const branch = branches[index];
        if (branch && (path === '' || path in open)) open[path] = branch;
      });
      this.#open = open;
      const listed = Object.values(open).flatMap((branch) => branch.levels);
      this.#rates = Object.fromEntries(
        listed
          .filter((level) => !level.is_topic)
          .map(({ path, rate }) => [path, [...this.rates(path), rate].slice(-REMEMBERED)]),
      );
      this.#drift = drift.data;
      this.#trouble = '';
    } catch {
      if (signal?.aborted) return;
      this.#trouble = reasonOf(undefined);
    }
  }

  /** Opens a branch, or closes it with all below. */
  async toggle(path: string): Promise<void> {
    if (path in this.#open) {
      const below = (other: string) => other === path || other.startsWith(`${path}/`);
      this.#open = Object.fromEntries(Object.entries(this.#open).filter(([other]) => !below(other)));
      return;
    }
    const branch = await this.#fetch(path);
    if (branch) this.#open = { ...this.#open, [path]: branch };
  }

  async #fetch(path: string, signal?: AbortSignal): Promise<TopicList | undefined> {
    const sort = this.busiest ? 'rate' : 'name';
    const query = { sort, limit: LISTED, ...(path === '' ? {} : { prefix: path }) };
    return (await api.GET('/api/v1/topics', { params: { query }, signal })).data;
  }

  /** Finds what the filter catches; of several questions only the last is answered. */
  async find(): Promise<void> {
    const asked = ++this.#asked;
    if (this.filter === '') {
      this.#match = undefined;
      this.#subscribers = undefined;
      this.#wrong = '';
      return;
    }
    const [{ data, error }, subscribers] = await Promise.all([
      api.GET('/api/v1/topics/match', { params: { query: { filter: this.filter, limit: 12 } } }),
      api.GET('/api/v1/subscribers', { params: { query: { filter: this.filter, limit: 50 } } }),
    ]);
    if (asked !== this.#asked) return;
    this.#match = data;
    this.#subscribers = subscribers.data;
    this.#wrong = data ? '' : reasonOf(error);
  }
}
