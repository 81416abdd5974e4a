/** Retained messages: what a filter matches, what is chosen of it, what was cleared in this visit. */
import { SvelteSet } from 'svelte/reactivity';

import { api, reasonOf, type RetainedMessage, type RetainedView } from '$api/client';
import { count } from '$lib/format';
import { Notice } from '$ui/notice.svelte';

/** Messages that are listed at most. */
const LISTED = 1_000;

/** Something that was cleared, and can be brought back. */
export interface Cleared {
  words: string;
  undo: string;
}

export class Retained {
  #list = $state.raw<RetainedView[]>([]);
  #total = $state(0);
  #bytes = $state(0);
  #planned = $state(false);
  #message = $state.raw<RetainedMessage>();
  #cleared = $state.raw<Cleared[]>([]);
  #trouble = $state('');
  /** What became of the last clearing or restoring. */
  readonly notice = new Notice();
  #asked = 0;
  filter = $state('#');
  sort = $state<'topic' | 'size' | 'age'>('topic');
  /** Topics that are chosen. */
  readonly chosen = new SvelteSet<string>();

  get list(): RetainedView[] {
    return this.#list;
  }

  /** How many match, listed or not. */
  get total(): number {
    return this.#total;
  }

  get bytes(): number {
    return this.#bytes;
  }

  /** Whether anything is planned, so that "not planned" says something. */
  get hasPlan(): boolean {
    return this.#planned;
  }

  /** The message that is looked at. */
  get message(): RetainedMessage | undefined {
    return this.#message;
  }

  /** What was cleared in this visit, newest first. */
  get cleared(): Cleared[] {
    return this.#cleared;
  }

  /** Why the last look came to nothing. */
  get trouble(): string {
    return this.#trouble;
  }

  /** Looks for what matches; of several filters only the last counts. */
  async look(): Promise<void> {
    const asked = ++this.#asked;
    const query = { filter: this.filter || '#', sort: this.sort, limit: LISTED };
    const { data, error } = await api.GET('/api/v1/retained', { params: { query } });
    if (asked !== this.#asked) return;
    this.#trouble = data ? '' : reasonOf(error);
    if (!data) return;
    this.#list = data.retained;
    this.#total = data.total;
    this.#bytes = data.bytes;
    this.#planned = data.has_plan;
    const listed = data.retained.map((one) => one.topic);
    for (const topic of [...this.chosen]) if (!listed.includes(topic)) this.chosen.delete(topic);
  }

  async show(topic: string): Promise<void> {
    const { data, error } = await api.GET('/api/v1/retained/message', { params: { query: { topic } } });
    this.#message = data;
    this.#trouble = data ? '' : reasonOf(error);
  }

  /** Chooses or leaves a topic. */
  toggle(topic: string): void {
    if (!this.chosen.delete(topic)) this.chosen.add(topic);
  }

  /** Chooses all that is listed, or nothing if all is chosen. */
  toggleAll(): void {
    const all = this.chosen.size === this.#list.length;
    this.chosen.clear();
    if (!all) for (const one of this.#list) this.chosen.add(one.topic);
  }

  /** Narrows the list to a branch and chooses all of it. */
  async chooseBranch(path: string): Promise<void> {
    this.filter = `${path}/#`;
    this.chosen.clear();
    await this.look();
    this.toggleAll();
  }

  /** Clears what is chosen. */
  async clear(): Promise<void> {
    const { data, error } = await api.POST('/api/v1/retained/clear', { body: { topics: [...this.chosen] } });
    // What was cleared is listed, and can be restored there.
    this.notice.tell('', error, data !== undefined);
    if (data) {
      const words = data.topics.length === 1 ? (data.topics[0] ?? '') : `${count(data.topics.length)} topics`;
      this.#cleared = [{ words, undo: data.restore_key }, ...this.#cleared];
      if (this.#message && this.chosen.has(this.#message.about.topic)) this.#message = undefined;
      this.chosen.clear();
    }
    await this.look();
  }

  /** Brings back what was cleared. */
  async restore(cleared: Cleared): Promise<void> {
    const { data, error } = await api.POST('/api/v1/retained/restore', {
      body: { restore_key: cleared.undo },
    });
    const kept = data && data.kept > 0 ? `; ${data.kept} have a newer message, which stays` : '';
    this.notice.tell(`${data?.restored} restored${kept}.`, error, data !== undefined);
    this.#cleared = this.#cleared.filter((one) => one !== cleared);
    await this.look();
  }
}

/** Outlives the page, so that what was cleared can be restored within the visit. */
export const retained = new Retained();
