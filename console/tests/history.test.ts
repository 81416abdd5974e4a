import { describe, expect, it } from 'vitest';

import { bytes, count, rate, span } from '$lib/format';
import { change, columns, values, type Value } from '$watch/history';

const each = (...all: [number, number][]): Value[] => all.map(([at, mean]) => ({ at, mean, peak: 2 * mean }));

describe('columns of a chart', () => {
  it('have a gap where nothing was measured', () => {
    const [at, means, peaks] = columns(each([10, 1], [20, 2], [60, 3]), 10);
    expect(at).toEqual([10, 20, 30, 60]);
    expect(means).toEqual([1, 2, null, 3]);
    expect(peaks).toEqual([2, 4, null, 6]);
  });

  it('take a late value for what it is', () => {
    expect(columns(each([10, 1], [39, 1]), 10)[0]).toEqual([10, 39]);
  });

  it('are moved to lie over a later range, in the unit of the chart', () => {
    const point = { at: '2026-11-01T10:00:00Z', minimum: 0, mean: 0.001, maximum: 0.004, last: 0 };
    const at = Date.parse(point.at) / 1000;
    expect(values([point], 1_000, 86_400)).toEqual([{ at: at + 86_400, mean: 1, peak: 4 }]);
  });
});

describe('the change against yesterday', () => {
  it('is told in percent, and of what grew tenfold in times', () => {
    expect([change(110, 100), change(50, 100), change(100, 100)]).toEqual([
      '+10 % against yesterday',
      '−50 % against yesterday',
      'as yesterday',
    ]);
    expect([change(5_000, 100), change(5, 0), change(5, undefined)]).toEqual(['50 × yesterday', '', '']);
  });
});

describe('numbers', () => {
  it('are written for people', () => {
    expect([count(1234567), rate(12.34), rate(1234.5)]).toEqual(['1,234,567', '12.3', '1,235']);
    expect([bytes(0), bytes(1536), bytes(3 * 1024 ** 3)]).toEqual(['0 B', '1.5 KiB', '3.0 GiB']);
    expect([span(5.9), span(130), span(7_300), span(200_000)]).toEqual(['5 s', '2 min', '2 h', '2 days']);
  });
});
