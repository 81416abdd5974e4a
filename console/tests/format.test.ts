import { describe, expect, it } from 'vitest';

import { bytes, count, plural, rate, span } from '$lib/format';

describe('numbers', () => {
  it('have their thousands apart, and a noun that fits', () => {
    expect(count(1_234_567)).toBe('1,234,567');
    expect(plural(1, 'session')).toBe('1 session');
    expect(plural(0, 'session')).toBe('0 sessions');
    expect(plural(2_000, 'session')).toBe('2,000 sessions');
  });

  it('are rates with one digit while they are small', () => {
    expect(rate(0)).toBe('0.0');
    expect(rate(1.25)).toBe('1.3');
    expect(rate(99.94)).toBe('99.9');
    expect(rate(100)).toBe('100');
    expect(rate(12_345.6)).toBe('12,346');
  });

  it('are bytes in units of 1024', () => {
    expect(bytes(0)).toBe('0 B');
    expect(bytes(1_023)).toBe('1,023 B');
    expect(bytes(1_024)).toBe('1.0 KiB');
    expect(bytes(1_536)).toBe('1.5 KiB');
    expect(bytes(1_048_576)).toBe('1.0 MiB');
    expect(bytes(5 * 1024 ** 4)).toBe('5.0 TiB');
    expect(bytes(5 * 1024 ** 5)).toBe('5,120.0 TiB');
  });
});

describe('spans', () => {
  it('are in the unit that a person would choose', () => {
    for (const [seconds, told] of [
      [-5, '0 s'],
      [0.9, '0 s'],
      [119, '119 s'],
      [120, '2 min'],
      [7_199, '119 min'],
      [7_200, '2 h'],
      [172_799, '47 h'],
      [172_800, '2 days'],
      [864_000, '10 days'],
    ] as const) {
      expect(span(seconds)).toBe(told);
    }
  });
});
