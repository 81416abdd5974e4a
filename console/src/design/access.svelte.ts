/** Who may do what, and what was refused. */
import { api, reasonOf, type AccessAnswer, type Matrix, type RefusalView } from '$api/client';
import { Poll } from '$lib/poll';

const PERIOD = 3_000;

export class AccessState {
  #matrix = $state.raw<Matrix>();
  #refusals = $state.raw<RefusalView[]>([]);
  #answer = $state.raw<AccessAnswer>();
  #trouble = $state('');
  readonly poll = new Poll(PERIOD, (signal) => this.look(signal));
  identity = $state('');
  act = $state<'publish' | 'subscribe'>('publish');
  topic = $state('');
  qos = $state(0);
  retain = $state(false);
  by = $state<'cohorts' | 'identities'>('cohorts');
  search = $state('');

  get matrix(): Matrix | undefined {
    return this.#matrix;
  }

  get refusals(): RefusalView[] {
    return this.#refusals;
  }

  get answer(): AccessAnswer | undefined {
    return this.#answer;
  }

  /** Why the question was not answered; empty if it was. */
  get trouble(): string {
    return this.#trouble;
  }

  async look(signal?: AbortSignal): Promise<void> {
    try {
      const query = { by: this.by, search: this.search, limit: 100 };
      const [matrix, refusals] = await Promise.all([
        api.GET('/api/v1/access/matrix', { params: { query }, signal }),
        api.GET('/api/v1/access/refusals', { signal }),
      ]);
      this.#matrix = matrix.data ?? this.#matrix;
      this.#refusals = refusals.data ?? this.#refusals;
    } catch {
      // The bar at the top says that the service is away.
    }
  }

  async explain(): Promise<void> {
    const { identity, act, topic, qos, retain } = this;
    const { data, error } = await api.POST('/api/v1/access/explain', {
      body: { identity, act, topic, qos, retain, client_id: '' },
    });
    this.#answer = data;
    this.#trouble = data ? '' : reasonOf(error);
  }

  /** Asks about an attempt that was refused. */
  async explainRefusal(refusal: RefusalView): Promise<void> {
    this.identity = refusal.identity;
    this.act = refusal.act === 'subscribe' ? 'subscribe' : 'publish';
    this.topic = refusal.topic;
    await this.explain();
  }
}
