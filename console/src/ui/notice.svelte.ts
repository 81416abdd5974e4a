import { reasonOf } from '$api/client';

/** What a page says of the last thing that it was asked to do: that it was done, or why not. */
export class Notice {
  #done = $state('');
  #trouble = $state('');

  /** What was done last; empty if it was not. */
  get done(): string {
    return this.#done;
  }

  /** Why the last thing was not done; empty if it was. */
  get trouble(): string {
    return this.#trouble;
  }

  /** Tells of what was done, or why it was not; gives whether it was. */
  tell(words: string, error: unknown, done: boolean): boolean {
    this.#trouble = done ? '' : reasonOf(error);
    this.#done = done ? words : '';
    return done;
  }

  /** Says what is wrong before anything was asked of the service. */
  refuse(why: string): void {
    this.#trouble = why;
    this.#done = '';
  }

  clear(): void {
    this.#trouble = this.#done = '';
  }
}
