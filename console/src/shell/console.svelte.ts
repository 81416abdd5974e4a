/** What the console knows of the service: whether one is signed in, and its status. */
import { api, reasonOf, type Me, type SignIn, type Status } from '$api/client';
import { Poll } from '$lib/poll';

/** Between two looks at what is not streamed, milliseconds. */
const PERIOD = 2_000;

export type Phase = 'looking' | 'signed out' | 'signed in';

export class ConsoleState {
  #phase = $state<Phase>('looking');
  #status = $state.raw<Status>();
  #me = $state.raw<Me>();
  #trouble = $state('');
  #refusal = $state('');
  readonly poll = new Poll(PERIOD, (signal) => this.look(signal));

  get phase(): Phase {
    return this.#phase;
  }

  /** Who is signed in, and what they may do. */
  get me(): Me | undefined {
    return this.#me;
  }

  get status(): Status | undefined {
    return this.#status;
  }

  /** Why the service can't be asked now; empty if it can. */
  get trouble(): string {
    return this.#trouble;
  }

  /** Why the link that led here did not sign in; empty if there was none. */
  get refusal(): string {
    return this.#refusal;
  }

  async look(signal?: AbortSignal): Promise<void> {
    await this.#followLink();
    try {
      const status = await api.GET('/api/v1/status', { signal });
      if (status.response.status === 401) {
        this.#phase = 'signed out';
        this.poll.rest();
        return;
      }
      if (!status.data) {
        this.#trouble = reasonOf(status.error);
        return;
      }
      if (!this.#me) this.#me = (await api.GET('/api/v1/me')).data;
      this.#status = status.data;
      this.#trouble = '';
      this.#phase = 'signed in';
    } catch {
      if (signal?.aborted) return;
      this.#trouble = reasonOf(undefined);
    }
  }

  /** Signs in by the link that led here, which is good for once and does not stay in the address. */
  async #followLink(): Promise<void> {
    const [, link] = /^#\/sign-in\/(.+)$/.exec(location.hash) ?? [];
    if (!link) return;
    history.replaceState(null, '', '#/');
    try {
      const { response, error } = await api.POST('/api/v1/console-session', { body: { link } });
      this.#refusal = response.ok ? '' : reasonOf(error);
    } catch {
      this.#refusal = reasonOf(undefined);
    }
  }

  /** Signs in; gives why not, or nothing. */
  async signIn(credentials: SignIn): Promise<string> {
    try {
      const { response, error } = await api.POST('/api/v1/console-session', { body: credentials });
      if (!response.ok) return reasonOf(error);
    } catch {
      return reasonOf(undefined);
    }
    await this.poll.now();
    return '';
  }

  async signOut(): Promise<void> {
    await api.DELETE('/api/v1/console-session');
    this.poll.rest();
    this.#me = undefined;
    this.#phase = 'signed out';
  }
}
