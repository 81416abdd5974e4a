// @vitest-environment jsdom
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';

import type { EventKind, EventView } from '$api/client';
import { Events, GROUPS, whose, WRONG } from '$watch/events.svelte';

import { play, type Answer } from './service';

const event = (id: number, more: Partial<EventView> = {}) =>
  ({ id, kind: 'connected', identity: '', subject: '', ...more }) as EventView;

/** The newest events first, as the service has them. */
const upTo = (newest: number, number: number) =>
  Array.from({ length: number }, (_, place) => event(newest - place));

describe('whom an event is about', () => {
  it('is its identity, and of who was not let in what they said', () => {
    expect(whose(event(1, { identity: 'kettle-weir' }))).toBe('kettle-weir');
    expect(whose(event(1, { kind: 'refused', subject: 'somebody' }))).toBe('“somebody”');
    expect(whose(event(1, { kind: 'subscribed', subject: 'harrowmere/#' }))).toBe('');
  });

  it('has its kind in a group if somebody should look at it', () => {
    const trouble = GROUPS.find(({ name }) => name === 'trouble')?.kinds ?? [];
    const missing = WRONG.filter((kind) => !trouble.includes(kind));
    expect(missing).toEqual([]);
  });
});

describe('the page of events', () => {
  let stop: () => void;
  beforeEach(() => vi.useFakeTimers());
  afterEach(() => {
    stop();
    vi.useRealTimers();
    vi.restoreAllMocks();
  });

  /** One more look than there were. */
  const look = () => vi.advanceTimersByTimeAsync(2_000);

  it('begins with the newest, adds what is new on top and what is older below', async () => {
    const answers: EventView[][] = [upTo(500, 100), [event(501), event(502)], upTo(400, 40), []];
    const asked = play(() => ({ data: answers.shift() ?? [] }));
    const events = new Events();
    stop = events.start();
    await look();
    expect(asked.map(({ query }) => query)).toEqual([
      { kind: '', limit: 100 },
      { kind: '', after: 500, limit: 1_000 },
    ]);
    expect(events.found.slice(0, 3).map(({ id }) => id)).toEqual([502, 501, 500]);
    expect(events.hasMore).toBe(true);
    await events.more();
    expect(asked[2]?.query).toEqual({ kind: '', before: 401, limit: 100 });
    expect(events.found.at(-1)?.id).toBe(361);
    expect(events.hasMore).toBe(false);
    // What has gone by is not asked for again.
    await look();
    expect(asked.at(-1)?.query).toEqual({ kind: '', after: 502, limit: 1_000 });
  });

  it('keeps the newest thousand, and says that there are more', async () => {
    const answers: EventView[][] = [upTo(50, 50), upTo(1_040, 990).reverse()];
    play(() => ({ data: answers.shift() ?? [] }));
    const events = new Events();
    stop = events.start();
    await vi.advanceTimersByTimeAsync(1);
    expect(events.hasMore).toBe(false);
    await look();
    expect([events.found.length, events.found[0]?.id, events.found.at(-1)?.id]).toEqual([1_000, 1_040, 41]);
    expect(events.hasMore).toBe(true);
  });

  it('asks anew when somebody asks for others, and drops the answer to the question before', async () => {
    const waiting: ((answer: Answer) => void)[] = [];
    const asked = play(() => new Promise<Answer>((resolve) => waiting.push(resolve)));
    const events = new Events(6);
    stop = events.start();
    events.text = '  weir ';
    events.group = GROUPS.findIndex(({ name }) => name === 'alerts');
    events.since = '2026-11-20T09:30';
    events.until = 'never';
    const kinds: EventKind[] = ['alert-raised', 'alert-cleared', 'notice-fails'];
    expect(asked.at(-1)?.query).toEqual({
      kind: kinds.join(','),
      text: 'weir',
      since: new Date('2026-11-20T09:30').toISOString(),
      limit: 6,
    });
    expect(asked.map(({ signal }) => signal?.aborted)).toEqual([true, true, true, true, false]);
    waiting[0]?.({ data: upTo(9, 6) });
    await vi.advanceTimersByTimeAsync(1);
    expect(events.found).toEqual([]);
    waiting[4]?.({ data: [event(4)] });
    await vi.advanceTimersByTimeAsync(1);
    expect(events.found.map(({ id }) => id)).toEqual([4]);
  });

  it('says what is wrong, keeps what it has, and goes on', async () => {
    const answers: Answer[] = [
      { data: [event(1)] },
      { error: { detail: 'The database is away.' } },
      new Error('refused'),
      { data: [event(2)] },
    ];
    play(() => answers.shift() ?? { data: [] });
    const events = new Events();
    stop = events.start();
    await look();
    expect([events.trouble, events.found.length]).toEqual(['The database is away.', 1]);
    await look();
    expect(events.trouble).toContain('does not respond');
    await look();
    expect([events.trouble, events.found.map(({ id }) => id)]).toEqual(['', [2, 1]]);
  });
});
