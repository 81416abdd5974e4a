/** Events: those that were found, and new ones as they come. */
import { api, reasonOf, type EventKind, type EventView } from '$api/client';
import { instant } from '$lib/format';
import { Poll } from '$lib/poll';

/** Events of a page. */
const PAGE = 100;

/** Kinds that somebody should look at. */
export const WRONG: readonly EventKind[] = [
  'refused',
  'handshake-failed',
  'connection-lost',
  'sign-ins-fail',
  'listener-refuses',
  'subscription-refused',
  'will-refused',
  'database-away',
  'certificate-ends',
  'alert-raised',
  'notice-fails',
];

/** Events that stay on the page at most. */
const MOST = 1_000;

/** What can be chosen, by groups of kinds. */
export const GROUPS: { name: string; kinds: EventKind[] }[] = [
  { name: 'all kinds', kinds: [] },
  {
    name: 'connections',
    kinds: [
      'connected',
      'disconnected',
      'connection-lost',
      'taken-over',
      'refused',
      'unfinished',
      'handshake-failed',
    ],
  },
  {
    name: 'trouble',
    kinds: [
      'refused',
      'unfinished',
      'handshake-failed',
      'connection-lost',
      'sign-ins-fail',
      'listener-refuses',
      'taken-over',
      'subscription-refused',
      'will-sent',
      'will-refused',
      'session-expired',
      'session-ended',
      'database-away',
      'certificate-ends',
      'alert-raised',
      'notice-fails',
    ],
  },
  { name: 'alerts', kinds: ['alert-raised', 'alert-cleared', 'notice-fails'] },
  { name: 'subscriptions', kinds: ['subscribed', 'subscription-refused', 'unsubscribed'] },
  { name: 'changes', kinds: ['blueprint-applied', 'identity-changed', 'identity-removed'] },
];

/** Whom an event is about: who was not let in has only said who it is. */
export function whose(event: EventView): string {
  const unknown = event.kind === 'refused' || event.kind === 'unfinished';
  return event.identity || (unknown && event.subject ? `“${event.subject}”` : '');
}

export class Events {
  #found = $state.raw<EventView[]>([]);
  #trouble = $state('');
  #hasMore = $state(false);
  #text = $state('');
  #group = $state(0);
  #since = $state('');
  #until = $state('');
  readonly #page: number;
  readonly #poll = new Poll(2_000, (signal) => this.#look(signal));

  /** `page` is how many are shown at first. */
  constructor(page = PAGE) {
    this.#page = page;
  }

  /** Newest first. */
  get found(): EventView[] {
    return this.#found;
  }

  get trouble(): string {
    return this.#trouble;
  }

  /** Whether there are older ones. */
  get hasMore(): boolean {
    return this.#hasMore;
  }

  get text(): string {
    return this.#text;
  }

  set text(text: string) {
    this.#text = text;
    this.#again();
  }

  get group(): number {
    return this.#group;
  }

  set group(group: number) {
    this.#group = group;
    this.#again();
  }

  /** From when on, as a field of a date and time has it; empty for any time. */
  get since(): string {
    return this.#since;
  }

  set since(since: string) {
    this.#since = since;
    this.#again();
  }

  /** Up to when; empty for now and what is to come. */
  get until(): string {
    return this.#until;
  }

  set until(until: string) {
    this.#until = until;
    this.#again();
  }

  start(): () => void {
    return this.#poll.start();
  }

  /** Adds older ones. */
  async more(): Promise<void> {
    const before = this.#found.at(-1)?.id;
    if (before === undefined) return;
    const { data, error } = await this.#get({ before, limit: this.#page });
    this.#trouble = data ? '' : reasonOf(error);
    if (!data) return;
    this.#found = [...this.#found, ...data];
    this.#hasMore = data.length === this.#page;
  }

  #again(): void {
    this.#found = [];
    this.#hasMore = false;
    void this.#poll.now();
  }

  async #look(signal: AbortSignal): Promise<void> {
    const newest = this.#found[0]?.id;
    const where = newest === undefined ? { limit: this.#page } : { after: newest, limit: MOST };
    const { data, error } = await this.#get(where, signal);
    if (signal.aborted) return;
    this.#trouble = data ? '' : reasonOf(error);
    if (!data) return;
    if (newest === undefined) {
      this.#found = data;
      this.#hasMore = data.length === this.#page;
    } else if (data.length > 0) {
      const all = [...data.reverse(), ...this.#found];
      this.#hasMore ||= all.length > MOST;
      this.#found = all.slice(0, MOST);
    }
  }

  #get(where: { after?: number; before?: number; limit: number }, signal?: AbortSignal) {
    const kind = GROUPS[this.#group]?.kinds.join(',') ?? '';
    const text = this.#text.trim();
    const [since, until] = [this.#since, this.#until].map(instant);
    const query = { kind, ...(text && { text }), ...(since && { since }), ...(until && { until }), ...where };
    return api
      .GET('/api/v1/events', { params: { query }, signal })
      .catch(() => ({ data: undefined, error: undefined }));
  }
}
