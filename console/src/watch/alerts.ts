/** Words for alerts. */
import type { AlertView } from '$api/client';
import { span } from '$lib/format';

/** A value, or seconds of silence, with no more digits than anybody reads. */
export function valueOf(value: number | null | undefined, silence: boolean): string {
  if (value === null || value === undefined) return '–';
  return silence ? span(value) : String(Math.round(value * 1e4) / 1e4);
}

/** How long ago, in a unit that a person would choose. */
export function since(at: string | null | undefined, now: number): string {
  return at ? span((now - Date.parse(at)) / 1000) : '';
}

/** What an alert says of all its subjects: how many are out of how many, or the value of the only one. */
export function outOf(alert: AlertView): string {
  const out = alert.standings.filter((standing) => standing.phase !== 'ok').length;
  const [only] = alert.standings;
  if (alert.subjects === 1 && only) return valueOf(only.value, alert.silence);
  return alert.subjects === 0 ? '–' : `${out} of ${alert.subjects} out`;
}
