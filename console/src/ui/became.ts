/** What derived topics would make of a message, in words. */
import type { DerivedTrialOutcome } from '$api/client';
import { span } from '$lib/format';

/** What would become of a message. */
export function became(one: DerivedTrialOutcome, now: number): string {
  switch (one.outcome) {
    case 'published':
      return one.payload ?? '';
    case 'unchanged':
      return 'Nothing is published: the value is like the one before.';
    case 'waits': {
      const left = one.until ? Math.max(0, Math.ceil((Date.parse(one.until) - now) / 1_000)) : 0;
      return `It waits for ${span(left)} more, unless a newer value comes.`;
    }
    case 'not-true':
      return 'Nothing is published: the condition is not true.';
    case 'incomplete':
      return `Nothing is published until ${one.missing.join(' and ')} ${one.missing.length === 1 ? 'has' : 'have'} said something, too.`;
    case 'one-alone':
      return 'Nothing is published: a rate needs a second value.';
    case 'failed':
      return `No value can be made: ${one.words}.`;
    case 'full':
      return 'Nothing is published: as many topics are made as there may be.';
  }
}
