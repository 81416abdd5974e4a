// @vitest-environment jsdom
import { describe, expect, it, vi } from 'vitest';

import type { LiveReading } from '$api/client';
import { Past } from '$watch/history.svelte';

// The library of charts asks for the screen as soon as it is loaded.
vi.hoisted(() => vi.stubGlobal('matchMedia', () => ({ addEventListener: () => {} })));

describe('the live chart', () => {
  it('has peaks of the seconds that its means are of, however the rates fall', () => {
    const past = new Past();
    const base = Date.parse('2026-11-30T10:00:00Z');
    const each = [10, 90, 20, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
    each.forEach((rate, second) => {
      const before = each.slice(Math.max(0, second - 9), second + 1);
      const mean = before.reduce((sum, one) => sum + one, 0) / before.length;
      const rates = { messages_in: rate, messages_out: 0 };
      const average = { messages_in: mean, messages_out: 0 };
      const at = new Date(base + second * 1_000).toISOString();
      past.take({ at, sessions: 1, rates, average } as unknown as LiveReading);
    });
    const [at, peaks, , means] = past.data as number[][];
    expect(at).toHaveLength(each.length);
    expect(peaks).toEqual([10, 90, 90, 90, 90, 90, 90, 90, 90, 90, 90, 20, 0]);
    expect(means?.every((mean, place) => mean <= (peaks?.[place] ?? -1))).toBe(true);
  });

  it('forgets its seconds with another measure, and has one line of sessions', () => {
    const past = new Past();
    const reading = (at: string, sessions: number) =>
      ({ at, sessions, rates: {}, average: {} }) as unknown as LiveReading;
    past.kind = 'sessions';
    past.take(reading('2026-11-30T10:00:00Z', 17));
    past.take(reading('2026-11-30T10:00:01Z', 18));
    // What is told again, or late, is not drawn twice.
    past.take(reading('2026-11-30T10:00:01Z', 19));
    const [at, peaks, , means] = past.data as number[][];
    expect([at?.length, means]).toEqual([2, [17, 19]]);
    expect(peaks).toEqual([17, 19]);
    past.kind = 'throughput';
    expect((past.data as number[][])[0]).toEqual([]);
  });
});
