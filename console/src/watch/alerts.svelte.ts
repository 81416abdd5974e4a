/** Alerts, the notices that were sent of them, and what the demo's stand-in received. */
import { api, type AlertView, type InboxView, type NoticeView } from '$api/client';
import { Poll } from '$lib/poll';
import { Notice } from '$ui/notice.svelte';

/** Between two looks, milliseconds. */
const PERIOD = 2_000;

/** Notices of a page. */
const NOTICES = 50;

export class Alerts {
  #all = $state.raw<AlertView[]>();
  #notices = $state.raw<NoticeView[]>([]);
  #waiting = $state(0);
  #inbox = $state.raw<InboxView>();
  readonly notice = new Notice();
  readonly #hasInbox: () => boolean;
  readonly poll = new Poll(PERIOD, (signal) => this.#look(signal));

  /** `hasInbox` says whether there is a stand-in. */
  constructor(hasInbox: () => boolean) {
    this.#hasInbox = hasInbox;
  }

  /** Those that are raised first; nothing before they are known. */
  get all(): AlertView[] | undefined {
    return this.#all;
  }

  /** Newest first. */
  get notices(): NoticeView[] {
    return this.#notices;
  }

  /** Notices that wait in all. */
  get waiting(): number {
    return this.#waiting;
  }

  get inbox(): InboxView | undefined {
    return this.#inbox;
  }

  async #look(signal: AbortSignal): Promise<void> {
    try {
      const [alerts, notices, inbox] = await Promise.all([
        api.GET('/api/v1/alerts', { signal }),
        api.GET('/api/v1/notices', { params: { query: { limit: NOTICES } }, signal }),
        this.#hasInbox() ? api.GET('/api/v1/inbox', { signal }) : undefined,
      ]);
      if (alerts.data) this.#all = alerts.data.alerts;
      if (notices.data) {
        this.#notices = notices.data.notices;
        this.#waiting = notices.data.waiting;
      }
      if (inbox?.data) this.#inbox = inbox.data;
    } catch {
      // The bar at the top says that the service is away.
    }
  }

  /** Sends a test notice to whoever the alert tells. */
  async test(name: string): Promise<void> {
    const { data, error } = await api.POST('/api/v1/alerts/{name}/test', { params: { path: { name } } });
    const to = data?.notices.length ?? 0;
    this.notice.tell(`Test of ${name} sent to ${to} ${to === 1 ? 'address' : 'addresses'}.`, error, !!data);
    await this.poll.now();
  }

  /** Nobody is told of the alert for so many seconds; 0 ends that. */
  async quiet(name: string, seconds: number): Promise<void> {
    const path = { name };
    const { response, error } = seconds
      ? await api.PUT('/api/v1/alerts/{name}/quiet', { params: { path }, body: { seconds } })
      : await api.DELETE('/api/v1/alerts/{name}/quiet', { params: { path } });
    const words = seconds ? `Nobody is told of ${name} for now.` : `${name} is told of again.`;
    this.notice.tell(words, error, response.ok);
    await this.poll.now();
  }

  /** Makes the stand-in fail, or not any more. */
  async setFaults(faults: InboxView['faults']): Promise<void> {
    const { data, error } = await api.PUT('/api/v1/inbox/faults', { body: faults });
    if (data) this.#inbox = data;
    else this.notice.tell('', error, false);
  }
}
