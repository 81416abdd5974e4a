<script lang="ts">
  import type { Comparison, FieldChange } from '$api/client';
  import { count } from '$lib/format';
  import { strength } from '$ui/owners';

  interface Props {
    comparison: Comparison;
  }

  const { comparison }: Props = $props();

  /** A change of a field; of a list, what is new in it and what is gone. */
  function fieldChange({ field, before, after, added, removed }: FieldChange): string {
    if (added.length === 0 && removed.length === 0)
      return `${field}: ${before || 'nothing'} → ${after || 'nothing'}`;
    const items = [...added.map((item) => `with ${item}`), ...removed.map((item) => `without ${item}`)];
    return `${field}: ${items.join(', ')}`;
  }
  const effects = $derived(comparison.effects);
  const signs: Record<string, string> = { added: '+', removed: '−', changed: '~' };
  const total = $derived(
    effects.lost_subscriptions_total +
      effects.lost_topics_total +
      effects.unplanned_retained_total +
      effects.unmade_retained_total +
      effects.condition_moves_total +
      effects.newly_owned_total +
      effects.disowned_total +
      effects.cohort_moves_total,
  );
</script>

<div data-changes={comparison.changes.length}>
  <h3 class="mt-4 font-semibold">Changes from revision {comparison.base}</h3>
  <ul>
    {#each comparison.changes as change (`${change.part} ${change.name}`)}
      <li class="mt-1">
        <b class={change.kind === 'removed' ? 'text-wrong' : 'text-moss'}>{signs[change.kind]}</b>
        {change.part} <span class="font-mono">{change.name}</span>
        {#if change.kind === 'changed'}
          <ul class="ml-5 text-quiet">
            {#each change.fields as field (field.field)}
              <li class="break-words">
                {fieldChange(field)}
              </li>
            {/each}
          </ul>
        {/if}
      </li>
    {:else}
      <li class="text-quiet">No changes.</li>
    {/each}
  </ul>
  <h3 class="mt-4 font-semibold">Effects on live sessions and messages</h3>
  <ul data-effects={total}>
    {#each effects.lost_subscriptions as lost (`${lost.client_id} ${lost.filter}`)}
      <li class="mt-1">
        <b>{lost.client_id}</b> loses its subscription to <span class="font-mono">{lost.filter}</span>
        <span class="block text-quiet">{lost.explanation}</span>
      </li>
    {/each}
    {#each effects.lost_topics as lost (`${lost.identity} ${lost.topic}`)}
      <li class="mt-1">
        <b>{lost.identity}</b> loses the right to publish to <span class="font-mono">{lost.topic}</span>
      </li>
    {/each}
    {#each effects.unplanned_retained as topic (topic)}
      <li class="mt-1">
        the retained message of <span class="font-mono">{topic}</span> is no longer planned
      </li>
    {/each}
    {#each effects.unmade_retained as topic (topic)}
      <li class="mt-1">
        the retained message of <span class="font-mono">{topic}</span> stays, and no derived topic makes it any
        more
      </li>
    {/each}
    {#each effects.condition_moves as move (move.client_id)}
      <li class="mt-1">
        <b>{move.client_id}</b> gets other messages
        {#if move.new.length}<span class="block text-quiet">new for it: {move.new.join(', ')}</span>{/if}
        {#if move.old.length}<span class="block text-quiet">no longer as it was: {move.old.join(', ')}</span
          >{/if}
      </li>
    {/each}
    {#each effects.newly_owned as one (one.topic)}
      <li class="mt-1">
        <span class="font-mono">{one.topic}</span> has one owner from then on; <b>{one.identity}</b>
        published to it ({strength(one.strength)})
      </li>
    {/each}
    {#each effects.disowned as topic (topic)}
      <li class="mt-1">
        <span class="font-mono">{topic}</span> has no owner any more: everyone that publishes to it is heard
      </li>
    {/each}
    {#each effects.cohort_moves as move (`${move.identity} ${move.cohort}`)}
      <li class="mt-1"><b>{move.identity}</b> {move.enters ? 'enters' : 'leaves'} cohort {move.cohort}</li>
    {/each}
    {#if total === 0}<li class="text-quiet">No effects.</li>{/if}
  </ul>
  {#if total > 0}<p class="mt-1 text-quiet">{count(total)} in all</p>{/if}
</div>
