/** Another band for an alert: what would have been told? */
import { api, reasonOf, type AlertRehearsal, type AlertView } from '$api/client';
import { rangeOf } from './history';

/** What a number field holds: nothing while it is empty. */
type Field = number | null | undefined;

export class AlertTrial {
  low = $state<Field>();
  high = $state<Field>();
  outFor = $state<Field>();
  backFor = $state<Field>();
  /** How far back, minutes. */
  minutes = $state(1_440);
  #found = $state.raw<AlertRehearsal>();
  #trouble = $state('');
  #looks = $state(false);
  readonly #name: string;

  /** What is tried at first is what the alert has. */
  constructor(alert: AlertView) {
    this.#name = alert.name;
    this.low = alert.low;
    this.high = alert.high;
    this.outFor = alert.out_for_seconds;
    this.backFor = alert.back_for_seconds;
  }

  get found(): AlertRehearsal | undefined {
    return this.#found;
  }

  get trouble(): string {
    return this.#trouble;
  }

  /** Whether the service is asked at this moment. */
  get looks(): boolean {
    return this.#looks;
  }

  async run(): Promise<void> {
    this.#looks = true;
    const known = (value: Field) => value ?? undefined;
    const query = {
      low: known(this.low),
      high: known(this.high),
      out_for: known(this.outFor),
      back_for: known(this.backFor),
      ...rangeOf(Date.now(), this.minutes),
    };
    const { data, error } = await api
      .GET('/api/v1/alerts/{name}/rehearsal', { params: { path: { name: this.#name }, query } })
      .catch(() => ({ data: undefined, error: undefined }));
    this.#looks = false;
    this.#found = data;
    this.#trouble = data ? '' : reasonOf(error);
  }
}
