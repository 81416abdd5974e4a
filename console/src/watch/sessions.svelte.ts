/** Sessions: of any number only those that are in view, in the order that was asked for. */
import { api, type BanView, type EndReason, type SessionDetails, type SessionView } from '$api/client';
import type { operations } from '$api/schema';
import { Poll } from '$lib/poll';
import { Notice } from '$ui/notice.svelte';

export type Order = NonNullable<NonNullable<operations['list_sessions']['parameters']['query']>['order']>;

/** Between two looks, milliseconds. */
const PERIOD = 2_000;

/** Rows that are asked for at a time. */
const PAGE = 100;

/** Sessions that are ended at a time. */
export const TOGETHER = 10_000;

export interface Filter {
  search: string;
  connected: '' | 'true' | 'false';
  trouble: boolean;
}

export class Sessions {
  #rows = $state.raw<SessionView[]>([]);
  #offset = $state(0);
  #total = $state<number>();
  #details = $state.raw<SessionDetails>();
  #bans = $state.raw<BanView[]>([]);
  #chosen = $state('');
  #filter = $state.raw<Filter>({ search: '', connected: '', trouble: false });
  #order = $state<Order>('client');
  #descending = $state(false);
  readonly notice = new Notice();
  readonly poll = new Poll(PERIOD, (signal) => this.#look(signal));

  /** Those that are near what is in view. */
  get rows(): SessionView[] {
    return this.#rows;
  }

  /** The place of the first of them. */
  get offset(): number {
    return this.#offset;
  }

  /** How many match; nothing before that is known. */
  get total(): number | undefined {
    return this.#total;
  }

  get details(): SessionDetails | undefined {
    return this.#details;
  }

  get bans(): BanView[] {
    return this.#bans;
  }

  get chosen(): string {
    return this.#chosen;
  }

  get filter(): Filter {
    return this.#filter;
  }

  /** Others are wanted. */
  set filter(filter: Filter) {
    this.#filter = filter;
    this.#offset = 0;
    void this.poll.now();
  }

  get order(): Order {
    return this.#order;
  }

  get descending(): boolean {
    return this.#descending;
  }

  /** Sorts by this, the largest numbers first; once more turns it round. */
  sort(order: Order): void {
    const again = order === this.#order;
    this.#descending = again ? !this.#descending : order !== 'client' && order !== 'identity';
    this.#order = order;
    this.#offset = 0;
    void this.poll.now();
  }

  /** Those from this place on are in view. */
  show(first: number): void {
    const offset = Math.max(0, Math.floor((first - PAGE / 4) / (PAGE / 2)) * (PAGE / 2));
    if (offset === this.#offset) return;
    this.#offset = offset;
    void this.poll.now();
  }

  /** Looks at one, or at none if it is the same again. */
  async choose(clientId: string): Promise<void> {
    this.#chosen = clientId === this.#chosen ? '' : clientId;
    this.#details = undefined;
    if (!this.#chosen) return;
    const params = { path: { client_id: clientId } };
    const { data, error } = await api.GET('/api/v1/sessions/{client_id}', { params });
    if (this.#chosen === clientId) this.#details = data;
    if (!data) this.notice.tell('', error, false);
  }

  #query() {
    const { search, connected, trouble } = this.#filter;
    return {
      ...(search && { search }),
      ...(connected && { connected: connected === 'true' }),
      ...(trouble && { trouble }),
    };
  }

  async #look(signal: AbortSignal): Promise<void> {
    const offset = this.#offset;
    const order = { order: this.#order, descending: this.#descending };
    const query = { ...this.#query(), ...order, offset, limit: PAGE };
    try {
      const [list, bans] = await Promise.all([
        api.GET('/api/v1/sessions', { params: { query }, signal }),
        api.GET('/api/v1/bans', { signal }),
      ]);
      if (list.data && offset === this.#offset) {
        this.#rows = list.data.sessions;
        this.#total = list.data.total;
      }
      if (bans.data) this.#bans = bans.data;
    } catch {
      // The bar at the top says that the service is away.
    }
  }

  /** Everyone who matches, as far as they can be ended at a time. */
  async everyone(): Promise<{ total: number; sessions: SessionView[] } | undefined> {
    const query = { ...this.#query(), limit: TOGETHER };
    const { data, error } = await api.GET('/api/v1/sessions', { params: { query } });
    if (!data) this.notice.tell('', error, false);
    return data;
  }

  /** Ends these sessions, or only their connections. */
  async end(clientIds: string[], reason: EndReason, keep: boolean): Promise<void> {
    const body = { client_ids: clientIds, reason, keep };
    const { data, error } = await api.POST('/api/v1/sessions/end', { body });
    const ended = data?.ended === 1 ? '1 session' : `${data?.ended ?? 0} sessions`;
    this.notice.tell(`${ended} ${keep ? 'disconnected' : 'ended'}.`, error, !!data);
    this.#chosen = '';
    this.#details = undefined;
    await this.poll.now();
  }

  async ban(who: { identity: string } | { address: string }, seconds: number): Promise<void> {
    const { data, error } = await api.POST('/api/v1/bans', { body: { ...who, seconds, note: '' } });
    const name = 'identity' in who ? who.identity : who.address;
    this.notice.tell(`${name} is not let in for now.`, error, !!data);
    await this.poll.now();
  }

  async lift(ban: BanView): Promise<void> {
    const { response, error } = await api.DELETE('/api/v1/bans/{id}', { params: { path: { id: ban.id } } });
    this.notice.tell(`${ban.identity || ban.address} is let in again.`, error, response.ok);
    await this.poll.now();
  }
}
