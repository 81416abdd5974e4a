// @vitest-environment jsdom
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';

import { Poll } from '$lib/poll';

/** A look that ends when it is told to. */
function looks() {
  const signals: AbortSignal[] = [];
  const ends: (() => void)[] = [];
  const look = (signal: AbortSignal) => {
    signals.push(signal);
    return new Promise<void>((resolve, reject) => {
      ends.push(resolve);
      signal.addEventListener('abort', () => reject(new Error('aborted')));
    });
  };
  return { signals, ends, look };
}

let hidden = false;

describe('a poll', () => {
  beforeEach(() => {
    vi.useFakeTimers();
    hidden = false;
    vi.spyOn(document, 'hidden', 'get').mockImplementation(() => hidden);
  });
  afterEach(() => vi.useRealTimers());

  it('looks one at a time, a period after the last one has ended', async () => {
    const { signals, ends, look } = looks();
    const stop = new Poll(1_000, look).start();
    expect(signals).toHaveLength(1);
    await vi.advanceTimersByTimeAsync(60_000);
    expect(signals).toHaveLength(1);
    ends[0]?.();
    await vi.advanceTimersByTimeAsync(999);
    expect(signals).toHaveLength(1);
    await vi.advanceTimersByTimeAsync(1);
    expect(signals).toHaveLength(2);
    stop();
  });

  it('ends what is under way when it is left, and never looks again', async () => {
    const { signals, ends, look } = looks();
    const stop = new Poll(1_000, look).start();
    stop();
    expect(signals[0]?.aborted).toBe(true);
    ends[0]?.();
    await vi.advanceTimersByTimeAsync(60_000);
    expect(signals).toHaveLength(1);
    const again = looks();
    const left = new Poll(1_000, again.look).start();
    again.ends[0]?.();
    await vi.advanceTimersByTimeAsync(500);
    left();
    await vi.advanceTimersByTimeAsync(60_000);
    expect(again.signals).toHaveLength(1);
  });

  it('waits while the tab is hidden, and looks at once when it is seen', async () => {
    const { signals, ends, look } = looks();
    const stop = new Poll(1_000, look).start();
    hidden = true;
    ends[0]?.();
    await vi.advanceTimersByTimeAsync(60_000);
    expect(signals).toHaveLength(1);
    hidden = false;
    document.dispatchEvent(new Event('visibilitychange'));
    expect(signals).toHaveLength(2);
    stop();
    document.dispatchEvent(new Event('visibilitychange'));
    expect(signals).toHaveLength(2);
  });

  it('looks at once when asked, in place of what is under way, and rests when told to', async () => {
    const { signals, ends, look } = looks();
    const poll = new Poll(1_000, look);
    const stop = poll.start();
    void poll.now();
    expect([signals.length, signals[0]?.aborted, signals[1]?.aborted]).toEqual([2, true, false]);
    poll.rest();
    ends[1]?.();
    await vi.advanceTimersByTimeAsync(60_000);
    expect(signals).toHaveLength(2);
    void poll.now();
    expect(signals).toHaveLength(3);
    stop();
  });
});
