/**
 * Looks again and again: one look at a time, none while the tab is hidden, none after it was left. What a look reads is
 * not tracked, so that what it changes does not set off the next one.
 */
import { untrack } from 'svelte';

export type Look = (signal: AbortSignal) => Promise<void>;

export class Poll {
  readonly #period: number;
  readonly #look: Look;
  /** Present while somebody looks; another one for each start. */
  #run: object | undefined;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #aborter: AbortController | undefined;
  #rests = false;

  /** `period` is between the end of one look and the next, milliseconds. */
  constructor(period: number, look: Look) {
    this.#period = period;
    this.#look = look;
  }

  /** Begins, for an effect; gives what ends it. */
  start(): () => void {
    const run = {};
    this.#run = run;
    this.#rests = false;
    const seen = () => {
      if (!document.hidden && this.#run === run && !this.#aborter) void this.now();
    };
    document.addEventListener('visibilitychange', seen);
    untrack(() => void this.now());
    return () => {
      document.removeEventListener('visibilitychange', seen);
      if (this.#run !== run) return;
      this.#run = undefined;
      clearTimeout(this.#timer);
      this.#aborter?.abort();
    };
  }

  /** Looks at once, in place of the look that is under way. */
  async now(): Promise<void> {
    this.#rests = false;
    clearTimeout(this.#timer);
    this.#aborter?.abort();
    const aborter = new AbortController();
    this.#aborter = aborter;
    try {
      await untrack(() => this.#look(aborter.signal));
    } catch (error) {
      if (!aborter.signal.aborted) throw error;
    } finally {
      if (this.#aborter === aborter) {
        this.#aborter = undefined;
        this.#wait();
      }
    }
  }

  /** Does not look again by itself until somebody says so. */
  rest(): void {
    this.#rests = true;
    clearTimeout(this.#timer);
  }

  #wait(): void {
    clearTimeout(this.#timer);
    // A hidden tab looks again when it is seen.
    if (!this.#run || this.#rests || document.hidden) return;
    this.#timer = setTimeout(() => void this.now(), this.#period);
  }
}
