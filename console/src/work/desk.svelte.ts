/** Clients side by side, to try things: what they are to be, and what happens to them. */
import { api, reasonOf, type DeskArrival, type DeskEvents, type DeskSetupView } from '$api/client';
import { now } from '$lib/format';
import { encoded, toBase64, type Encoding } from '$lib/payload';

/** Seconds that the service may wait for something to happen before it answers. */
const WAIT = 20;
/** Messages that a pane shows. */
const SHOWN = 200;

export interface Wanted {
  filter: string;
  qos: number;
  no_local: boolean;
  retain_as_published: boolean;
  retain_handling: number;
}

/** What a pane is set up to be. Set-ups are kept as lists of these. */
export interface Setup {
  identity: string;
  client_id: string;
  version: '5.0' | '3.1.1';
  clean_start: boolean;
  session_expiry: number;
  /** What the broker publishes if the client goes away without a goodbye; none if the topic is empty. */
  will_topic: string;
  will_payload: string;
  filters: Wanted[];
  topic: string;
  payload: string;
  encoding: Encoding;
  qos: number;
  retain: boolean;
  expiry: string;
  content_type: string;
  response_topic: string;
  correlation: string;
  /** A line for each: `name=value`. */
  user: string;
}

export interface Line {
  key: number;
  at: string;
  message?: DeskArrival;
  /** What the pane itself did, and how it went. */
  words?: string;
  bad?: boolean;
}

function blank(): Setup {
  return {
    identity: '',
    client_id: '',
    version: '5.0',
    clean_start: true,
    session_expiry: 0,
    will_topic: '',
    will_payload: '',
    filters: [],
    topic: '',
    payload: '',
    encoding: 'text',
    qos: 1,
    retain: false,
    expiry: '',
    content_type: '',
    response_topic: '',
    correlation: '',
    user: '',
  };
}

let lastKey = 0;

export class Pane {
  readonly key = ++lastKey;
  setup = $state<Setup>(blank());
  /** What is typed for the next subscription. */
  wanted = $state<Wanted>({
    filter: '',
    qos: 1,
    no_local: false,
    retain_as_published: false,
    retain_handling: 0,
  });
  #id = $state<string>();
  #clientId = $state('');
  #lines = $state.raw<Line[]>([]);
  #received = $state(0);
  #busy = $state(false);
  #after = 0;
  /** Tells the desk that this pane has opened or closed. */
  readonly #changed: () => void;

  constructor(changed: () => void, setup: Partial<Setup> = {}) {
    this.#changed = changed;
    this.setup = { ...blank(), ...setup };
  }

  /** What is asked for this pane; `undefined` if nothing is. */
  get asked(): string | undefined {
    return this.#id === undefined ? undefined : `${this.#id}.${this.#after}`;
  }

  get isOpen(): boolean {
    return this.#id !== undefined;
  }

  /** Its client identifier, once it has one. */
  get clientId(): string {
    return this.#clientId;
  }

  /** What happened, the newest first. */
  get lines(): Line[] {
    return this.#lines;
  }

  /** Messages that came. */
  get received(): number {
    return this.#received;
  }

  get busy(): boolean {
    return this.#busy;
  }

  clear(): void {
    this.#lines = [];
    this.#received = 0;
  }

  async open(): Promise<void> {
    if (this.#busy || this.isOpen) return;
    await this.#do(async () => {
      const { identity, client_id, version, clean_start, session_expiry } = this.setup;
      const { will_topic: topic, will_payload } = this.setup;
      const will = topic === '' ? null : { topic, payload: encoded(will_payload), qos: 1 };
      const body = { identity, client_id, version, clean_start, session_expiry, will };
      const { data, error } = await api.POST('/api/v1/desk/clients', { body });
      if (!data) return this.#say(reasonOf(error), true);
      this.#id = data.id;
      this.#clientId = data.client_id;
      const terms = data.limits.length > 0 ? `; ${data.limits.join(', ')}` : '';
      this.#say(`connected${data.session_present ? ', session present' : ''}${terms}`);
      this.#after = 0;
      this.#changed();
      for (const filter of this.setup.filters) await this.#subscribe(data.id, filter);
    });
  }

  /** @param abruptly without a goodbye, as when a link breaks */
  async close(abruptly = false): Promise<void> {
    const id = this.#id;
    if (id === undefined) return;
    this.#id = undefined;
    this.#changed();
    await this.#do(async () => {
      const params = { path: { id }, query: { abruptly } };
      await api.DELETE('/api/v1/desk/clients/{id}', { params });
      this.#say(abruptly ? 'connection dropped' : 'disconnected');
    });
  }

  /** Subscribes to what was typed. */
  async subscribe(): Promise<void> {
    const id = this.#id;
    const wanted = { ...this.wanted };
    if (id === undefined || wanted.filter === '') return;
    await this.#do(async () => {
      if (!(await this.#subscribe(id, wanted))) return;
      this.setup.filters = [...this.setup.filters.filter((one) => one.filter !== wanted.filter), wanted];
      this.wanted.filter = '';
    });
  }

  async #subscribe(id: string, wanted: Wanted): Promise<boolean> {
    const { data, error } = await api.POST('/api/v1/desk/clients/{id}/subscribe', {
      params: { path: { id } },
      body: wanted,
    });
    if (!data) this.#say(reasonOf(error), true);
    else this.#say(`subscribe ${wanted.filter}: ${data.explanation}`, !data.accepted);
    return data?.accepted ?? false;
  }

  async unsubscribe(filter: string): Promise<void> {
    this.setup.filters = this.setup.filters.filter((one) => one.filter !== filter);
    const id = this.#id;
    if (id === undefined) return;
    await this.#do(async () => {
      const params = { path: { id } };
      const { data, error } = await api.POST('/api/v1/desk/clients/{id}/unsubscribe', {
        params,
        body: { filter },
      });
      this.#say(`unsubscribe ${filter}: ${data ? data.explanation : reasonOf(error)}`, !data?.accepted);
    });
  }

  async publish(): Promise<void> {
    const id = this.#id;
    if (id === undefined) return;
    const { topic, payload, encoding, qos, retain, expiry, user } = this.setup;
    const { content_type, response_topic, correlation } = this.setup;
    const read = toBase64(encoding, payload);
    if ('wrong' in read) return this.#say(read.wrong, true);
    const own = user.split('\n').filter((line) => line.trim() !== '');
    const body = {
      topic,
      payload: read.base64,
      qos,
      retain,
      expiry: expiry === '' ? null : Number(expiry),
      content_type,
      response_topic,
      correlation,
      user: own.map((line) => {
        const at = line.indexOf('=');
        return at < 0 ? { name: line, value: '' } : { name: line.slice(0, at), value: line.slice(at + 1) };
      }),
    };
    await this.#do(async () => {
      const params = { path: { id } };
      const { data, error } = await api.POST('/api/v1/desk/clients/{id}/publish', { params, body });
      const took = data?.milliseconds == null ? '' : ` after ${data.milliseconds.toFixed(1)} ms`;
      this.#say(`publish ${topic}: ${data ? data.explanation + took : reasonOf(error)}`, !data?.accepted);
    });
  }

  /** Takes what happened to its client. */
  take({ id, open, events }: DeskEvents): void {
    if (this.#id !== id) return;
    if (!open) {
      this.#id = undefined;
      return this.#say('Client closed: no console has asked for it for a minute. Connect it again.', true);
    }
    for (const { number, at, message, closed } of events) {
      this.#after = number;
      if (message) {
        this.#received += 1;
        this.#add({ at, message });
      } else {
        this.#id = undefined;
        this.#add({ at, words: `disconnected: ${closed}`, bad: true });
        void api.DELETE('/api/v1/desk/clients/{id}', { params: { path: { id } } });
      }
    }
  }

  /** The service can't be asked. */
  lose(words: string): void {
    this.#id = undefined;
    this.#say(words, true);
  }

  async #do(deed: () => Promise<void>): Promise<void> {
    this.#busy = true;
    try {
      await deed();
    } catch {
      this.#say(reasonOf(undefined), true);
    } finally {
      this.#busy = false;
    }
  }

  #say(words: string, bad = false): void {
    this.#add({ at: now(), words, bad });
  }

  #add(line: Omit<Line, 'key'>): void {
    this.#lines = [{ ...line, key: ++lastKey }, ...this.#lines].slice(0, SHOWN);
  }
}

/** Waits until it is told to end. */
function pause(signal: AbortSignal): Promise<void> {
  return new Promise((resolve) => signal.addEventListener('abort', () => resolve(), { once: true }));
}

export class Desk {
  readonly #changed = () => this.#ask?.abort();
  #panes = $state.raw<Pane[]>([new Pane(this.#changed), new Pane(this.#changed)]);
  #setups = $state.raw<DeskSetupView[]>([]);
  #identities = $state.raw<string[]>([]);
  #trouble = $state('');
  #ask: AbortController | undefined;
  #follows = false;
  name = $state('');

  get panes(): Pane[] {
    return this.#panes;
  }

  get setups(): DeskSetupView[] {
    return this.#setups;
  }

  /** Names that can be acted as. */
  get identities(): string[] {
    return this.#identities;
  }

  get trouble(): string {
    return this.#trouble;
  }

  /**
   * Asks again and again what happened to the clients. One question is for all of them: a browser has only a few
   * connections to one place.
   */
  async follow(): Promise<void> {
    if (this.#follows) return;
    this.#follows = true;
    for (;;) {
      const asked = this.#panes.flatMap((pane) => pane.asked ?? []);
      this.#ask = new AbortController();
      const { signal } = this.#ask;
      try {
        if (asked.length === 0) await pause(signal);
        else await this.#take(asked.join(','), signal);
      } catch (error) {
        // What stands on the desk has changed; then something else is asked.
        if (signal.aborted) continue;
        this.#lose(error);
      }
    }
  }

  #lose(error: unknown): void {
    for (const pane of this.#panes) if (pane.isOpen) pane.lose(reasonOf(error));
  }

  async #take(of: string, signal: AbortSignal): Promise<void> {
    const params = { query: { of, wait: WAIT } };
    const { data, error } = await api.GET('/api/v1/desk/events', { params, signal });
    if (!data) return this.#lose(error);
    for (const happened of data) for (const pane of this.#panes) pane.take(happened);
  }

  async look(): Promise<void> {
    void this.follow();
    try {
      const [setups, identities] = await Promise.all([
        api.GET('/api/v1/desk/setups'),
        api.GET('/api/v1/identities'),
      ]);
      this.#trouble = setups.data ? '' : reasonOf(setups.error);
      this.#setups = setups.data ?? [];
      this.#identities = (identities.data ?? []).slice(0, 1_000).map((one) => one.name);
    } catch {
      this.#trouble = reasonOf(undefined);
    }
  }

  add(): void {
    this.#panes = [...this.#panes, new Pane(this.#changed)];
  }

  async remove(pane: Pane): Promise<void> {
    this.#panes = this.#panes.filter((other) => other !== pane);
    await pane.close();
  }

  /** Puts the clients of a setup on the desk, in place of what stands there. */
  async load(setup: DeskSetupView): Promise<void> {
    const before = this.#panes;
    const panes = Array.isArray(setup.clients) ? (setup.clients as Partial<Setup>[]) : [];
    this.#panes = panes.map((pane) => new Pane(this.#changed, pane));
    this.name = setup.name;
    await Promise.all(before.map((pane) => pane.close()));
  }

  async openAll(): Promise<void> {
    await Promise.all(this.#panes.map((pane) => pane.open()));
  }

  /** Keeps what stands on the desk under its name. */
  async keep(): Promise<void> {
    const panes = this.#panes.map((pane) => $state.snapshot(pane.setup));
    const params = { path: { name: this.name } };
    const { error } = await api.PUT('/api/v1/desk/setups/{name}', { params, body: panes });
    await this.look();
    if (error) this.#trouble = reasonOf(error);
  }

  async forget(name: string): Promise<void> {
    await api.DELETE('/api/v1/desk/setups/{name}', { params: { path: { name } } });
    await this.look();
  }
}

/** Outlives the page, and so do its clients. */
export const desk = new Desk();
