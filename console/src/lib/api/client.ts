/** The service's API. Its types come from docs/openapi.json, so a renamed field breaks the build. */
import createClient from 'openapi-fetch';

import type { components, paths } from './schema';

export type Status = components['schemas']['Status'];
export type SessionView = components['schemas']['SessionView'];
export type LiveReading = components['schemas']['LiveReading'];
export type Throughput = components['schemas']['Throughput'];
export type Problem = components['schemas']['Problem'];

export const api = createClient<paths>({ baseUrl: '/' });

/** What a person is told when a call failed. */
export function reasonOf(problem: unknown): string {
  if (problem && typeof problem === 'object' && 'detail' in problem) return String(problem.detail);
  return 'The service does not answer. Is it running?';
}
