// @vitest-environment jsdom
import { afterEach, describe, expect, it, vi } from 'vitest';

import type { BridgeMappingView, BridgeView } from '$api/client';
import { flowOf, layOut, namesOf, standingOf, stateOf } from '$links/bridges';
import { Bridges } from '$links/bridges.svelte';

import { play, type Answer } from './service';

const mapping = (direction: 'push' | 'pull', more: object = {}) =>
  ({
    direction,
    filter: 'river/#',
    new_name: null,
    flow: { rate: 0 },
    ...more,
  }) as unknown as BridgeMappingView;

const bridge = (name: string, more: object = {}) =>
  ({ name, phase: 'up', mappings: [mapping('push'), mapping('pull')], ...more }) as unknown as BridgeView;

afterEach(() => vi.restoreAllMocks());

describe('words of bridges', () => {
  it('say when a link that is down is tried next, and nothing of that otherwise', () => {
    const now = Date.parse('2026-12-01T10:00:00Z');
    const at = '2026-12-01T10:00:18Z';
    expect(stateOf(bridge('tideway', { phase: 'down', next_attempt_at: at }), now)).toBe(
      'down, next attempt in 18 s',
    );
    expect(stateOf(bridge('tideway', { phase: 'down', next_attempt_at: at }), now + 18_000)).toBe('down');
    expect(stateOf(bridge('tideway', { next_attempt_at: at }), now)).toBe('up');
    const since = new Date(now - 14_000).toISOString();
    expect(standingOf(bridge('tideway', { phase: 'paused', since }), now)).toBe('paused for 14 s');
  });

  it('tell names and what passes', () => {
    expect(namesOf(mapping('push'))).toBe('river/#');
    expect(namesOf(mapping('push', { new_name: 'harrowmere/#' }))).toBe('river/# as harrowmere/#');
    expect([flowOf(mapping('push')), flowOf(mapping('push', { flow: { rate: 2.14 } }))]).toEqual([
      'nothing now',
      '2.1/s',
    ]);
  });
});

describe('the map', () => {
  it('has this broker at the left, remotes at the right, and nothing upon each other', () => {
    const map = layOut([bridge('tideway'), bridge('north')]);
    expect([map.remotes.length, map.mappings.length, map.arrows.length]).toEqual([2, 4, 8]);
    for (const between of map.mappings) {
      expect(between.x).toBeGreaterThan(map.here.x + map.here.width);
      for (const remote of map.remotes) expect(remote.x).toBeGreaterThan(between.x + between.width);
    }
    const tops = map.mappings.map(({ y }) => y).sort((one, other) => one - other);
    tops.slice(1).forEach((y, place) => expect(y - (tops[place] ?? 0)).toBeGreaterThanOrEqual(44));
    expect(map.width).toBeGreaterThan(0);
  });

  it('leads arrows as messages go', () => {
    const { arrows, here, remotes } = layOut([bridge('tideway')]);
    const begins = (key: string) => Number(arrows.find((arrow) => arrow.key === key)?.path.split(' ')[1]);
    expect(begins('tideway/0/0')).toBe(here.x + here.width);
    expect(begins('tideway/1/0')).toBe(remotes[0]?.x);
  });
});

describe('bridges', () => {
  const played = (answer: (path: string) => Answer) => play(({ path }) => answer(path));

  it('are told what to do, and looked at again', async () => {
    const asked = played((path) =>
      path === '/api/v1/bridges'
        ? { data: { bridges: [bridge('tideway')], broker: 'harrowmere.1', demo_link: 'cut' } }
        : { data: {} },
    );
    const bridges = new Bridges();
    await bridges.order('tideway', 'pause');
    expect(asked.map(({ method, path }) => `${method} ${path}`)).toEqual([
      'POST /api/v1/bridges/{name}/pause',
      'GET /api/v1/bridges',
    ]);
    expect(bridges.notice.done).toContain('tideway rests until it is resumed');
    expect([bridges.all?.length, bridges.link, bridges.broker]).toEqual([1, 'cut', 'harrowmere.1']);
  });

  it('keep a preview for the bridge that it is of', async () => {
    const found = { push: {}, pull: {}, warnings: [] };
    played(() => ({ data: found }));
    const bridges = new Bridges();
    await bridges.ask('tideway');
    expect([bridges.preview('tideway'), bridges.preview('north')]).toEqual([found, undefined]);
    bridges.forget();
    expect(bridges.preview('tideway')).toBeUndefined();
  });

  it('say why something was not done', async () => {
    played((path) => (path === '/api/v1/bridges' ? { data: { bridges: [] } } : { error: { detail: 'No.' } }));
    const bridges = new Bridges();
    await bridges.order('tideway', 'drain');
    expect([bridges.notice.done, bridges.notice.trouble]).toEqual(['', 'No.']);
  });
});
