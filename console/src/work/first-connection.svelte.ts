/** How an identity connects, whether it may what it wants, and whether it has. */
import { api, reasonOf, type AccessAnswer, type ListenerView, type SessionView } from '$api/client';
import { programs, type Program } from './programs';
import { Poll } from '$lib/poll';

/** Between two looks, milliseconds. */
const PERIOD = 1_000;

/** A place where clients connect, taken apart. */
export interface Place {
  listener: ListenerView;
  scheme: string;
  host: string;
  port: number;
}

function takenApart(listener: ListenerView): Place {
  const [scheme = '', address = ''] = listener.url.split('://');
  const at = address.lastIndexOf(':');
  const host = address.slice(0, at).replace(/^\[|\]$/g, '');
  // One that listens everywhere is reached where the console is.
  const everywhere = host === '0.0.0.0' || host === '::';
  return {
    listener,
    scheme,
    host: everywhere ? location.hostname : host,
    port: Number(address.slice(at + 1)),
  };
}

export class Connect {
  #identities = $state.raw<string[]>([]);
  #tied = $state.raw<Record<string, string>>({});
  #places = $state.raw<Place[]>([]);
  #mayPublish = $state.raw<AccessAnswer>();
  #mayListen = $state.raw<AccessAnswer>();
  #sessions = $state.raw<SessionView[]>([]);
  /** Connections that were there before anybody looked. */
  #before: string[] | undefined;
  #arrived = $state.raw<SessionView>();
  #trouble = $state('');
  readonly poll = new Poll(PERIOD, (signal) => this.#wait(signal));
  #asked = 0;
  identity = $state('');
  clientId = $state('');
  topic = $state('');
  payload = $state('hello');
  filter = $state('');
  listener = $state('');

  readonly place = $derived(
    this.#places.find((one) => one.listener.name === this.listener) ?? this.#places[0],
  );

  /** The client identifier that it is to use. */
  readonly usedId = $derived(this.#tied[this.identity] ?? (this.clientId || this.identity));

  readonly programs = $derived.by((): Program[] => {
    const place = this.place;
    if (!place || this.identity === '' || place.scheme.startsWith('ws')) return [];
    return programs({
      host: place.host,
      port: place.port,
      secure: place.scheme === 'mqtts',
      identity: this.identity,
      clientId: this.usedId,
      topic: this.topic,
      payload: this.payload,
      filter: this.filter,
    });
  });

  get identities(): string[] {
    return this.#identities;
  }

  get places(): Place[] {
    return this.#places;
  }

  /** Whether the identity may only use one client identifier. */
  get isTied(): boolean {
    return this.identity in this.#tied;
  }

  get mayPublish(): AccessAnswer | undefined {
    return this.#mayPublish;
  }

  get mayListen(): AccessAnswer | undefined {
    return this.#mayListen;
  }

  /** A client of the identity that has connected since somebody looks. */
  get arrived(): SessionView | undefined {
    return this.#arrived;
  }

  /** Clients of the identity that are connected. */
  get connected(): SessionView[] {
    return this.#sessions;
  }

  get trouble(): string {
    return this.#trouble;
  }

  /** Asks for what there is. */
  async look(): Promise<void> {
    try {
      const [identities, status] = await Promise.all([
        api.GET('/api/v1/identities'),
        api.GET('/api/v1/status'),
      ]);
      this.#trouble = identities.data ? '' : reasonOf(identities.error);
      const all = identities.data ?? [];
      this.#identities = all.slice(0, 1_000).map((one) => one.name);
      this.#tied = Object.fromEntries(
        all.flatMap(({ name, client_id }) => (client_id ? [[name, client_id] as const] : [])),
      );
      this.#places = (status.data?.listeners ?? []).map(takenApart);
    } catch {
      this.#trouble = reasonOf(undefined);
    }
  }

  /** Another identity was chosen. */
  async choose(): Promise<void> {
    this.#before = undefined;
    this.#arrived = undefined;
    this.#sessions = [];
    await this.poll.now();
  }

  /** Asks what the identity may; of several questions only the last is answered. */
  async ask(): Promise<void> {
    const asked = ++this.#asked;
    const { identity, usedId: client_id, topic, filter } = this;
    const question = async (act: 'publish' | 'subscribe', on: string) => {
      if (identity === '' || on === '') return undefined;
      const body = { identity, client_id, act, topic: on, qos: 1, retain: false };
      return (await api.POST('/api/v1/access/explain', { body })).data;
    };
    try {
      const answers = await Promise.all([question('publish', topic), question('subscribe', filter)]);
      if (asked === this.#asked) [this.#mayPublish, this.#mayListen] = answers;
    } catch {
      this.#trouble = reasonOf(undefined);
    }
  }

  /** Looks whether a client of the identity has connected. */
  async #wait(signal: AbortSignal): Promise<void> {
    const identity = this.identity;
    if (identity === '') return;
    try {
      const { data, error } = await api.GET('/api/v1/sessions', {
        params: { query: { search: identity } },
        signal,
      });
      if (identity !== this.identity) return;
      this.#trouble = data ? '' : reasonOf(error);
      const seen = (data?.sessions ?? []).filter((one) => one.identity === identity && one.connected);
      this.#sessions = seen;
      const mark = (one: SessionView) => `${one.client_id} ${one.since}`;
      const before = (this.#before ??= seen.map(mark));
      this.#arrived = seen.find((one) => !before.includes(mark(one))) ?? this.#arrived;
    } catch {
      if (signal.aborted) return;
      this.#trouble = reasonOf(undefined);
    }
  }
}
