// @vitest-environment jsdom
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';

import { Sessions } from '$watch/sessions.svelte';

import { play, type Answer, type Asked } from './service';

const LIST = '/api/v1/sessions';

/** As many sessions as there are, by pages. */
function service(total: number) {
  return ({ path, query }: Asked): Answer => {
    if (path !== LIST) return { data: [] };
    const { offset = 0, limit = 100 } = query as { offset?: number; limit?: number };
    const number = Math.max(0, Math.min(limit, total - offset));
    const sessions = Array.from({ length: number }, (_, place) => ({ client_id: `gauge-${offset + place}` }));
    return { data: { total, sessions } };
  };
}

const queries = (asked: Asked[]) => asked.filter(({ path }) => path === LIST).map(({ query }) => query);

describe('the page of sessions', () => {
  beforeEach(() => vi.useFakeTimers());
  afterEach(() => {
    vi.useRealTimers();
    vi.restoreAllMocks();
  });

  it('asks for those near what is in view, and for no more of them while that stays', async () => {
    const asked = play(service(100_000));
    const sessions = new Sessions();
    const stop = sessions.poll.start();
    await vi.advanceTimersByTimeAsync(1);
    expect([sessions.total, sessions.rows.length]).toEqual([100_000, 100]);
    for (const [first, offset] of [
      [10, 0],
      [60, 0],
      [80, 50],
      [81, 50],
      [99_990, 99_950],
    ] as const) {
      sessions.show(first);
      await vi.advanceTimersByTimeAsync(1);
      expect([first, sessions.offset, sessions.rows[0]?.client_id]).toEqual([
        first,
        offset,
        `gauge-${offset}`,
      ]);
    }
    expect(queries(asked).map(({ offset }) => offset)).toEqual([0, 50, 99_950]);
    stop();
  });

  it('sorts by names upwards and by numbers downwards, turns round, and begins at the top', async () => {
    const asked = play(service(1_000));
    const sessions = new Sessions();
    sessions.show(500);
    sessions.sort('queue');
    sessions.sort('queue');
    sessions.sort('identity');
    sessions.filter = { search: 'weir', connected: 'false', trouble: true };
    await vi.advanceTimersByTimeAsync(1);
    const [far, down, up, names, some] = queries(asked);
    expect(far).toMatchObject({ offset: 450, order: 'client', descending: false });
    expect(down).toMatchObject({ offset: 0, order: 'queue', descending: true });
    expect(up).toMatchObject({ order: 'queue', descending: false });
    expect(names).toMatchObject({ order: 'identity', descending: false });
    expect(some).toEqual({
      search: 'weir',
      connected: false,
      trouble: true,
      order: 'identity',
      descending: false,
      offset: 0,
      limit: 100,
    });
  });

  it('drops the details of one that is no longer looked at', async () => {
    const waiting: ((answer: Answer) => void)[] = [];
    play(() => new Promise<Answer>((resolve) => waiting.push(resolve)));
    const sessions = new Sessions();
    const first = sessions.choose('weir-1');
    const second = sessions.choose('weir-2');
    waiting[1]?.({ data: { client_id: 'weir-2' } });
    waiting[0]?.({ data: { client_id: 'weir-1' } });
    await Promise.all([first, second]);
    expect(sessions.details).toEqual({ client_id: 'weir-2' });
    await sessions.choose('weir-2');
    expect([sessions.chosen, sessions.details]).toEqual(['', undefined]);
  });

  it('ends those that were shown before, and says how many', async () => {
    const asked = play((call) => (call.method === 'POST' ? { data: { ended: 2 } } : service(2)(call)));
    const sessions = new Sessions();
    sessions.filter = { search: 'gauge', connected: '', trouble: false };
    const who = await sessions.everyone();
    expect(asked.at(-1)?.query).toEqual({ search: 'gauge', limit: 10_000 });
    const names = who?.sessions.map(({ client_id }) => client_id) ?? [];
    await sessions.end(names, 'administrative-action', true);
    const posted = asked.find(({ method }) => method === 'POST');
    expect(posted?.body).toEqual({
      client_ids: ['gauge-0', 'gauge-1'],
      reason: 'administrative-action',
      keep: true,
    });
    expect(sessions.notice.done).toBe('2 sessions disconnected.');
  });

  it('says why somebody could not be banned', async () => {
    const asked = play(({ method }) =>
      method === 'POST' ? { error: { detail: 'There is no identity wier.' } } : { data: [] },
    );
    const sessions = new Sessions();
    await sessions.ban({ identity: 'wier' }, 600);
    expect(asked[0]?.body).toEqual({ identity: 'wier', seconds: 600, note: '' });
    expect(sessions.notice.trouble).toBe('There is no identity wier.');
  });
});
