/** The sessions, asked for only where they are shown. */
import { api, reasonOf, type SessionView } from '$api/client';
import { Poll } from '$lib/poll';

/** Between two looks, milliseconds. */
const PERIOD = 2_000;

export class Sessions {
  #list = $state.raw<SessionView[]>([]);
  #total = $state(0);
  readonly poll = new Poll(PERIOD, (signal) => this.look(signal));
  search = $state('');

  get list(): SessionView[] {
    return this.#list;
  }

  /** How many match the search, shown or not. */
  get total(): number {
    return this.#total;
  }

  async look(signal?: AbortSignal): Promise<void> {
    try {
      const query = { search: this.search };
      const { data } = await api.GET('/api/v1/sessions', { params: { query }, signal });
      if (!data) return;
      this.#list = data.sessions;
      this.#total = data.total;
    } catch {
      // The bar at the top says that the service is away.
    }
  }

  /** Ends a session; gives why not, or nothing. */
  async end(clientId: string): Promise<string> {
    const { response, error } = await api.DELETE('/api/v1/sessions/{client_id}', {
      params: { path: { client_id: clientId } },
    });
    await this.poll.now();
    return response.ok ? '' : reasonOf(error);
  }
}
