<script lang="ts">
  import type { Comparison } from '$lib/api/client';
  import { count } from '$lib/format';

  interface Props {
    comparison: Comparison;
  }

  const { comparison }: Props = $props();

  /** A field's change; of lists, what came and what went. */
  function fieldChange(field: string, before: string, after: string): string {
    const items = (text: string) => text.split(', ').filter((item) => item !== '');
    const [old, now] = [items(before), items(after)];
    if (field === 'topics' && old.length > 0 && now.length > 0) {
      const came = now.filter((item) => !old.includes(item)).map((item) => `with ${item}`);
      const went = old.filter((item) => !now.includes(item)).map((item) => `without ${item}`);
      return `${field}: ${[...came, ...went].join(', ')}`;
    }
    return `${field}: ${before || 'nothing'} → ${after || 'nothing'}`;
  }
  const effects = $derived(comparison.effects);
  const signs: Record<string, string> = { added: '+', removed: '−', changed: '~' };
  const total = $derived(
    effects.lost_subscriptions_total +
      effects.lost_topics_total +
      effects.unplanned_retained_total +
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
                {fieldChange(field.field, field.before, field.after)}
              </li>
            {/each}
          </ul>
        {/if}
      </li>
    {:else}
      <li class="text-quiet">none</li>
    {/each}
  </ul>
  <h3 class="mt-4 font-semibold">Effects on what is live</h3>
  <ul data-effects={total}>
    {#each effects.lost_subscriptions as lost (`${lost.client_id} ${lost.filter}`)}
      <li class="mt-1">
        <b>{lost.client_id}</b> loses its subscription to <span class="font-mono">{lost.filter}</span>
        <span class="block text-quiet">{lost.words}</span>
      </li>
    {/each}
    {#each effects.lost_topics as lost (`${lost.identity} ${lost.topic}`)}
      <li class="mt-1">
        <b>{lost.identity}</b> may no longer publish to <span class="font-mono">{lost.topic}</span>
      </li>
    {/each}
    {#each effects.unplanned_retained as topic (topic)}
      <li class="mt-1">
        the retained message of <span class="font-mono">{topic}</span> falls out of the plan
      </li>
    {/each}
    {#each effects.cohort_moves as move (`${move.identity} ${move.cohort}`)}
      <li class="mt-1"><b>{move.identity}</b> {move.enters ? 'enters' : 'leaves'} cohort {move.cohort}</li>
    {/each}
    {#if total === 0}<li class="text-quiet">none</li>{/if}
  </ul>
  {#if total > 0}<p class="mt-1 text-quiet">{count(total)} in all</p>{/if}
</div>
