/** What derived topics are and do, in words. */
import type { DerivedCounts, DerivedView } from '$api/client';
import { count, span } from '$lib/format';

/** When one publishes. */
export function publishes(one: DerivedView): string {
  const words = [
    typeof one.dead_band === 'number'
      ? `when it has changed by ${one.dead_band}`
      : one.on_change
        ? 'when it has changed'
        : 'each value',
  ];
  if (one.at_most_every_seconds) words.push(`at most every ${span(one.at_most_every_seconds)}`);
  if (one.cadence_seconds) words.push(`stale after ${span(one.cadence_seconds)}`);
  return words.join(', ');
}

/** What is done with numbers; empty if nothing. */
export function scale(one: DerivedView): string {
  const words = [];
  if (one.factor !== 1) words.push(`times ${one.factor}`);
  if (one.offset !== 0) words.push(one.offset > 0 ? `plus ${one.offset}` : `minus ${-one.offset}`);
  if (typeof one.decimals === 'number')
    words.push(`${one.decimals} ${one.decimals === 1 ? 'decimal' : 'decimals'}`);
  return words.join(', ');
}

/** Why messages led to nothing, with how many: what did not happen is left out. */
export function silent(counts: DerivedCounts): [string, string][] {
  const reasons: [number, string][] = [
    [counts.not_true, 'the condition was not true'],
    [counts.unchanged, 'like the value before'],
    [counts.waited, 'too soon after the one before; the newest of them waits'],
    [counts.incomplete, 'other sources had said nothing yet'],
    [counts.failed, 'no value could be made'],
    [counts.refused, 'the plan refuses them'],
    [counts.full, 'no room for one more topic'],
  ];
  return reasons.filter(([number]) => number > 0).map(([number, words]) => [count(number), words]);
}
