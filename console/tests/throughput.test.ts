import { describe, expect, it } from 'vitest';

import { bytes, count, rate, span } from '$lib/format';
import { toColumns, type Point } from '$watch/throughput';

const points = (...values: [number, number][]): Point[] =>
  values.map(([at, n]) => ({ at, in: n, out: 2 * n }));

describe('throughput columns', () => {
  it('average over the window and no further', () => {
    const columns = toColumns(points([1, 10], [2, 20], [3, 60], [4, 40]), 1, 2);
    expect(columns.inAverage).toEqual([10, 15, 40, 50]);
    expect(columns.outAverage).toEqual([20, 30, 80, 100]);
    expect(columns.in).toEqual([10, 20, 60, 40]);
  });

  it('have a gap where there were no points, and the average starts anew behind it', () => {
    const columns = toColumns(points([1, 10], [2, 10], [30, 50]), 1, 10);
    expect(columns.at).toEqual([1, 2, 3, 30]);
    expect(columns.in).toEqual([10, 10, null, 50]);
    expect(columns.inAverage).toEqual([10, 10, null, 50]);
  });

  it('take a late point for what it is', () => {
    expect(toColumns(points([1, 1], [3.9, 1]), 1, 5).at).toEqual([1, 3.9]);
  });
});

describe('numbers', () => {
  it('are written for people', () => {
    expect([count(1234567), rate(12.34), rate(1234.5)]).toEqual(['1,234,567', '12.3', '1,235']);
    expect([bytes(0), bytes(1536), bytes(3 * 1024 ** 3)]).toEqual(['0 B', '1.5 KiB', '3.0 GiB']);
    expect([span(5.9), span(130), span(7_300), span(200_000)]).toEqual(['5 s', '2 min', '2 h', '2 days']);
  });
});
