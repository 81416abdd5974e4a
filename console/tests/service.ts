/** The service as a test plays it: what was asked, and answers that come when the test says so. */
import { vi } from 'vitest';

import { api } from '$api/client';

export interface Asked {
  method: string;
  path: string;
  query: Record<string, unknown>;
  params: Record<string, unknown>;
  body: unknown;
  signal: AbortSignal | undefined;
}

interface Options {
  params?: { query?: Record<string, unknown>; path?: Record<string, unknown> };
  body?: unknown;
  signal?: AbortSignal;
}

/** What a call comes back with: data, or a problem. */
export type Answer = { data: unknown } | { error: unknown } | Error;

/** Plays the service: `answer` is asked for each call. */
export function play(answer: (asked: Asked) => Answer | Promise<Answer>): Asked[] {
  const all: Asked[] = [];
  for (const method of ['GET', 'POST', 'PUT', 'DELETE'] as const) {
    const call = async (path: string, options: Options = {}) => {
      const { params = {}, body, signal } = options;
      const asked = { method, path, query: params.query ?? {}, params: params.path ?? {}, body, signal };
      all.push(asked);
      const answered = await answer(asked);
      if (answered instanceof Error) throw answered;
      return { ...answered, response: { ok: 'data' in answered } };
    };
    vi.spyOn(api, method).mockImplementation(call as never);
  }
  return all;
}
