/** Ladders: the packets of somebody, both ways over time. */
import { api, type LadderPacket, type LadderView } from '$api/client';
import { Poll } from '$lib/poll';
import { Notice } from '$ui/notice.svelte';

export type Whom = 'identity' | 'session' | 'address';

/** Packets that are asked for at a time. */
const TOGETHER = 500;

/** Packets that stay on the page: the newest. */
const MOST = 1_000;

/** A packet, and what passed before it on the same ladder. */
export interface Rung {
  packet: LadderPacket;
  /** Milliseconds since the one before. */
  gap: number | undefined;
  /** Whether it is the first, or of another connection than the one before. */
  begins: boolean;
}

/** Packets one after the other, with the time between them. */
export function rungs(packets: LadderPacket[]): Rung[] {
  return packets.map((packet, place) => {
    const before = packets[place - 1];
    const gap =
      before && Date.parse(packet.at) - Date.parse(before.at) + fraction(packet.at) - fraction(before.at);
    return { packet, gap, begins: before?.connection !== packet.connection };
  });
}

/** What a time has beyond whole milliseconds: the browser's own times have no more than those. */
function fraction(at: string): number {
  const [, digits = ''] = /\.\d{3}(\d{1,6})/.exec(at) ?? [];
  return digits ? Number(digits) / 10 ** digits.length : 0;
}

/** How long, in the unit that a person would choose. */
export function gapOf(ms: number): string {
  if (ms < 10) return `${ms.toFixed(1)} ms`;
  if (ms < 1_000) return `${Math.round(ms)} ms`;
  return `${(ms / 1_000).toFixed(1)} s`;
}

export class Ladders {
  #all = $state.raw<LadderView[]>([]);
  #chosen = $state(0);
  #packets = $state.raw<LadderPacket[]>([]);
  readonly notice = new Notice();
  readonly poll = new Poll(1_000, (signal) => this.#look(signal));

  /** The newest first. */
  get all(): LadderView[] {
    return this.#all;
  }

  /** The one that is looked at. */
  get chosen(): LadderView | undefined {
    return this.#all.find(({ number }) => number === this.#chosen);
  }

  get packets(): LadderPacket[] {
    return this.#packets;
  }

  choose(number: number): void {
    this.#chosen = number;
    this.#packets = [];
    void this.poll.now();
  }

  async begin(whom: Whom, name: string, seconds: number, payloads: boolean): Promise<void> {
    const body = { [whom]: name, seconds, payloads };
    const { data, error } = await api.POST('/api/v1/ladders', { body });
    if (!this.notice.tell('', error, !!data) || !data) return;
    this.choose(data.number);
  }

  async end(number: number): Promise<void> {
    const params = { path: { number } };
    const { response, error } = await api.POST('/api/v1/ladders/{number}/stop', { params });
    this.notice.tell('', error, response.ok);
    await this.poll.now();
  }

  async #look(signal: AbortSignal): Promise<void> {
    try {
      const { data } = await api.GET('/api/v1/ladders', { signal });
      if (data) this.#all = data;
      if (!this.#chosen && data?.[0]) this.#chosen = data[0].number;
      const known = this.chosen;
      const after = this.#packets.at(-1)?.number ?? 0;
      // What has ended and was read has no more.
      if (!known || (!known.running && after > 0 && after >= known.packets)) return;
      const params = { path: { number: known.number }, query: { after, limit: TOGETHER } };
      const more = await api.GET('/api/v1/ladders/{number}', { params, signal });
      if (more.data && known.number === this.#chosen) {
        this.#packets = [...this.#packets, ...more.data.packets].slice(-MOST);
      }
    } catch {
      // The bar at the top says that the service is away.
    }
  }
}
