/** Bridges, how their links are, and what they are told. */
import { api, type BridgeList, type BridgePreview, type BridgeView, type LinkState } from '$api/client';
import { Poll } from '$lib/poll';
import { Notice } from '$ui/notice.svelte';

/** Between two looks, milliseconds. */
const PERIOD = 2_000;

export type Order = 'pause' | 'resume' | 'drain' | 'retry';

const DONE: Record<Order, string> = {
  pause: 'rests until it is resumed; what is to be pushed waits.',
  resume: 'connects.',
  drain: 'takes nothing new, sends what waits, and then rests.',
  retry: 'connects anew.',
};

export class Bridges {
  #list = $state.raw<BridgeList>();
  #preview = $state.raw<{ name: string; found: BridgePreview }>();
  readonly notice = new Notice();
  readonly poll = new Poll(PERIOD, (signal) => this.#look(signal));

  /** Nothing before they are known. */
  get all(): BridgeView[] | undefined {
    return this.#list?.bridges;
  }

  /** By which other brokers know this one. */
  get broker(): string {
    return this.#list?.broker ?? '';
  }

  /** How the link of the demo is; nothing elsewhere. */
  get link(): LinkState | undefined {
    return this.#list?.demo_link ?? undefined;
  }

  /** What the topics of now become by a bridge, if that was asked for. */
  preview(name: string): BridgePreview | undefined {
    return this.#preview?.name === name ? this.#preview.found : undefined;
  }

  async #look(signal: AbortSignal): Promise<void> {
    try {
      const { data } = await api.GET('/api/v1/bridges', { signal });
      if (data) this.#list = data;
    } catch {
      // The bar at the top says that the service is away.
    }
  }

  async order(name: string, order: Order): Promise<void> {
    const { data, error } = await api.POST(`/api/v1/bridges/{name}/${order}`, { params: { path: { name } } });
    this.notice.tell(`${name} ${DONE[order]}`, error, !!data);
    await this.poll.now();
  }

  /** Asks what topics become; of an earlier answer nothing stays. */
  async ask(name: string): Promise<void> {
    const body = { topics: [], remote_topics: [] };
    const { data, error } = await api.POST('/api/v1/bridges/{name}/preview', {
      params: { path: { name } },
      body,
    });
    this.#preview = data ? { name, found: data } : undefined;
    if (!data) this.notice.tell('', error, false);
  }

  forget(): void {
    this.#preview = undefined;
  }

  /** Cuts, slows or restores the link of the demo. */
  async setLink(state: LinkState): Promise<void> {
    const { data, error } = await api.PUT('/api/v1/demo/link', { body: { state } });
    this.notice.tell(`The link of the demo is ${state}.`, error, !!data);
    await this.poll.now();
  }
}
