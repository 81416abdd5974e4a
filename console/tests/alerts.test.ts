// @vitest-environment jsdom
import { afterEach, describe, expect, it, vi } from 'vitest';

import type { AlertView } from '$api/client';
import { instant } from '$lib/format';
import { outOf, since, valueOf } from '$watch/alerts';
import { AlertTrial } from '$watch/trial.svelte';

import { play, type Answer } from './service';

const standing = (phase: string, value?: number) => ({ phase, value });

const alert = (more: object) =>
  ({ name: 'gorge-high', silence: false, subjects: 1, standings: [], ...more }) as unknown as AlertView;

afterEach(() => vi.restoreAllMocks());

describe('words of alerts', () => {
  it('have values with no more digits than anybody reads, and silence as a span', () => {
    expect(valueOf(2.345678, false)).toBe('2.3457');
    expect(valueOf(-0.5, false)).toBe('-0.5');
    expect(valueOf(0, false)).toBe('0');
    expect(valueOf(300, true)).toBe('5 min');
    expect([valueOf(null, false), valueOf(undefined, true)]).toEqual(['–', '–']);
  });

  it('tell the only value, or how many are out', () => {
    expect(outOf(alert({ standings: [standing('raised', 2.5)] }))).toBe('2.5');
    expect(outOf(alert({ silence: true, standings: [standing('ok', 12)] }))).toBe('12 s');
    const three = [standing('ok', 1), standing('pending', 3), standing('clearing', 2)];
    expect(outOf(alert({ subjects: 3, standings: three }))).toBe('2 of 3 out');
    expect(outOf(alert({ subjects: 0 }))).toBe('–');
  });

  it('say how long ago something was, if it was', () => {
    const now = Date.parse('2026-11-30T10:00:00Z');
    expect(since('2026-11-30T09:55:00Z', now)).toBe('5 min');
    expect([since(null, now), since(undefined, now)]).toEqual(['', '']);
  });
});

describe('the instant of a date and time', () => {
  it('is that of whoever reads, and none where there is none', () => {
    expect(instant('2026-11-30T10:15')).toBe(new Date(2026, 10, 30, 10, 15).toISOString());
    expect([instant(''), instant('soon'), instant('2026-13-01T00:00')]).toEqual(['', '', '']);
  });
});

describe('a band that is tried', () => {
  const measured = alert({ low: null, high: 2.4, out_for_seconds: 30, back_for_seconds: 60 });

  it('begins as the alert is, and an empty field is as in the alert', async () => {
    vi.spyOn(Date, 'now').mockReturnValue(Date.parse('2026-11-30T10:00:00Z'));
    const asked = play(() => ({ data: { raised: 3 } }));
    const trial = new AlertTrial(measured);
    expect([trial.low, trial.high, trial.outFor, trial.backFor]).toEqual([null, 2.4, 30, 60]);
    trial.high = 2;
    trial.backFor = null;
    trial.minutes = 60;
    await trial.run();
    expect(asked[0]?.params).toEqual({ name: 'gorge-high' });
    expect(asked[0]?.query).toEqual({
      low: undefined,
      high: 2,
      out_for: 30,
      back_for: undefined,
      from: '2026-11-30T09:00:00.000Z',
      to: '2026-11-30T10:00:00.000Z',
    });
    expect(trial.found?.raised).toBe(3);
  });

  it('says why it could not be, and shows nothing of the one before', async () => {
    const answers: Answer[] = [
      { data: { raised: 3 } },
      { error: { detail: 'The low end of the band, 3, is above its high end, 2.4.' } },
      new Error('refused'),
    ];
    play(() => answers.shift() ?? { data: undefined });
    const trial = new AlertTrial(measured);
    await trial.run();
    trial.low = 3;
    const second = trial.run();
    expect(trial.looks).toBe(true);
    await second;
    expect([trial.trouble, trial.found, trial.looks]).toEqual([
      'The low end of the band, 3, is above its high end, 2.4.',
      undefined,
      false,
    ]);
    await trial.run();
    expect(trial.trouble).toContain('does not respond');
  });
});
