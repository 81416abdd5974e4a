// @vitest-environment jsdom
import { afterEach, describe, expect, it, vi } from 'vitest';

import type { DerivedTrialOutcome, DerivedView } from '$api/client';
import { publishes, scale, silent } from '$links/derived';
import { DerivedTopics } from '$links/derived.svelte';
import { became } from '$ui/became';

import { play, type Answer } from './service';

const NOTHING = { not_true: 0, unchanged: 0, waited: 0, incomplete: 0, failed: 0, refused: 0, full: 0 };

const view = (more: object = {}) =>
  ({
    name: 'level',
    factor: 1,
    offset: 0,
    on_change: false,
    dead_band: null,
    decimals: null,
    ...more,
  }) as unknown as DerivedView;

const outcome = (outcome: string, more: object = {}) =>
  ({
    derived: 'level',
    topic: 'values/level',
    outcome,
    missing: [],
    words: '',
    ...more,
  }) as unknown as DerivedTrialOutcome;

afterEach(() => vi.restoreAllMocks());

describe('words of derived topics', () => {
  it('say when one publishes, and what is done with numbers', () => {
    expect(publishes(view())).toBe('each value');
    expect(publishes(view({ on_change: true, at_most_every_seconds: 10 }))).toBe(
      'when it has changed, at most every 10 s',
    );
    expect(publishes(view({ on_change: true, dead_band: 0.5, cadence_seconds: 300 }))).toBe(
      'when it has changed by 0.5, stale after 5 min',
    );
    expect(scale(view())).toBe('');
    expect(scale(view({ factor: 100, offset: -2, decimals: 0 }))).toBe('times 100, minus 2, 0 decimals');
    expect(scale(view({ offset: 3, decimals: 1 }))).toBe('plus 3, 1 decimal');
  });

  it('say why messages led to nothing, and leave out what did not happen', () => {
    expect(silent({ ...NOTHING, heard: 5, published: 5 })).toEqual([]);
    expect(silent({ ...NOTHING, heard: 5, published: 2, unchanged: 1_200, failed: 1 })).toEqual([
      ['1,200', 'like the value before'],
      ['1', 'no value could be made'],
    ]);
  });

  it('say what would become of a message', () => {
    const now = Date.parse('2026-12-01T10:00:00Z');
    expect(became(outcome('published', { payload: '' }), now)).toBe('');
    expect(became(outcome('waits', { until: '2026-12-01T10:00:04.2Z' }), now)).toBe(
      'It waits for 5 s more, unless a newer value comes.',
    );
    expect(became(outcome('incomplete', { missing: ['upper', 'lower'] }), now)).toBe(
      'Nothing is published until upper and lower have said something, too.',
    );
    expect(became(outcome('failed', { words: 'there is no `m`' }), now)).toBe(
      'No value can be made: there is no `m`.',
    );
  });
});

describe('derived topics that are looked at', () => {
  it('are asked for with the one that is chosen, and a trial is of that one', async () => {
    const asked = play(({ path, params }): Answer => {
      if (path.endsWith('/trial')) return { data: { outcomes: [outcome('published', { payload: '183' })] } };
      if (path === '/api/v1/derived')
        return { data: { derived: [view(), view({ name: 'fall' })], trouble: null } };
      return { data: { derived: view({ name: params.name }), topics: [] } };
    });
    const topics = new DerivedTopics();
    await topics.poll.now();
    expect([topics.shown, topics.details?.derived.name]).toEqual(['level', 'level']);
    await topics.choose('fall');
    expect(topics.details?.derived.name).toBe('fall');
    await topics.try();
    expect(topics.outcomes?.[0]?.payload).toBe('183');
    await topics.choose('level');
    expect(topics.outcomes).toBeUndefined();
    expect(asked.map(({ path, params }) => [path.replace('/api/v1/derived', ''), params.name])).toEqual([
      ['', undefined],
      ['/{name}', 'level'],
      ['', undefined],
      ['/{name}', 'fall'],
      ['/{name}/trial', 'fall'],
      ['', undefined],
      ['/{name}', 'level'],
    ]);
  });
});
