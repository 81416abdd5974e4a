<script lang="ts">
  import { count, moment } from '$lib/format';
  import Panel from '$ui/panel.svelte';
  import { Events, whose, WRONG } from './events.svelte';

  interface Props {
    /** Differences between traffic and plan. */
    drifts: number;
  }

  const { drifts }: Props = $props();
  const events = new Events(30);

  $effect(() => events.start());
</script>

<Panel title="Events" note={events.trouble || 'as they come'} fills>
  {#snippet tools()}
    <p class="text-xs text-quiet">
      {#if drifts > 0}
        <a href="#/topics" class="text-wrong hover:underline">
          {count(drifts)}
          {drifts === 1 ? 'difference' : 'differences'} between traffic and plan
        </a>
      {:else}
        traffic is as planned
      {/if}
    </p>
    <a href="#/events" class="plain-button text-sm">All events</a>
  {/snippet}
  <ul class="min-h-0 flex-1 overflow-y-auto border-t border-line text-sm">
    {#each events.found as event (event.id)}
      <li class="flex gap-4 border-b border-line/60 px-5 py-1" data-event={event.kind}>
        <span class="shrink-0 text-quiet tabular-nums">{moment(event.at)}</span>
        <span class="w-36 shrink-0 {WRONG.includes(event.kind) ? 'text-wrong' : ''}">
          {event.kind.replaceAll('-', ' ')}{event.count > 1 ? ` × ${count(event.count)}` : ''}
        </span>
        <span class="w-36 shrink-0 truncate font-medium">{whose(event) || event.address}</span>
        <span class="min-w-0 flex-1">{event.explanation}</span>
      </li>
    {:else}
      <li class="px-5 py-6 text-center text-quiet">Nothing has happened yet.</li>
    {/each}
  </ul>
</Panel>
