/** Topics that have one owner at a time, in words. */
import type { NotOwner, TopicOwnership } from '$api/client';
import { span } from '$lib/format';

/** How strong somebody is. */
export function strength(number: number | null | undefined): string {
  return number === null || number === undefined ? 'no strength' : `strength ${number}`;
}

/** Who becomes the owner of a topic. */
export function ownedBy(owned: TopicOwnership): string {
  const { attribute, property, least, greatest } = owned.strength;
  const by = attribute ? `attribute ${attribute}` : `user property ${property} (${least} to ${greatest})`;
  const silent = owned.silent_after_seconds
    ? `, until it is silent for ${span(owned.silent_after_seconds)}`
    : '';
  return `The publisher with the greatest ${by} is heard alone${silent}.`;
}

/** Why nobody gets a message, as another client owns its topic. */
export function keptBack(why: NotOwner): string {
  return why.client_id
    ? `The topic is owned by ${why.client_id}, ${strength(why.strength)}.`
    : 'As many topics are owned as may be, and this one has no owner.';
}
