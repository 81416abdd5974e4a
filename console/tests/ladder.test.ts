import { describe, expect, it } from 'vitest';

import type { LadderPacket } from '$api/client';
import { hexOf } from '$lib/payload';
import { gapOf, rungs } from '$watch/ladder.svelte';

const packet = (number: number, at: string, connection = 1) =>
  ({ number, at, connection }) as unknown as LadderPacket;

describe('a ladder', () => {
  it('has the time between packets, finer than milliseconds, and begins anew with each connection', () => {
    const [first, second, third] = rungs([
      packet(1, '2026-11-28T09:15:00.007000Z'),
      packet(2, '2026-11-28T09:15:00.007420Z'),
      packet(3, '2026-11-28T09:15:02.007420Z', 2),
    ]);
    expect([first?.gap, first?.begins]).toEqual([undefined, true]);
    expect(second?.gap).toBeCloseTo(0.42);
    expect([Math.round(third?.gap ?? 0), second?.begins, third?.begins]).toEqual([2_000, false, true]);
    expect([gapOf(0.42), gapOf(99.6), gapOf(2_040)]).toEqual(['0.4 ms', '100 ms', '2.0 s']);
  });

  it('shows bytes as lines of eight', () => {
    const bytes = new TextEncoder().encode('harrowmere/gorge/…');
    const [first, , third] = hexOf(bytes).split('\n');
    expect(first).toBe('0000  68 61 72 72 6f 77 6d 65  harrowme');
    expect(third).toBe(`0010  2f e2 80 a6${' '.repeat(12)}  /...`);
  });
});
