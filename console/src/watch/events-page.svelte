<script lang="ts">
  import { count, moment } from '$lib/format';
  import Panel from '$ui/panel.svelte';
  import Table from '$ui/table.svelte';
  import { Events, GROUPS, whose, WRONG } from './events.svelte';

  const events = new Events();

  $effect(() => events.start());
</script>

<main class="flex min-h-0 flex-1 flex-col px-6 py-4">
  <Panel title="Events" note={events.trouble || (events.until ? '' : 'live')} fills>
    {#snippet tools()}
      <select class="field text-sm" aria-label="Kinds" bind:value={events.group}>
        {#each GROUPS as { name }, place (name)}
          <option value={place}>{name}</option>
        {/each}
      </select>
      <label class="flex items-center gap-1.5 text-quiet">
        from
        <input type="datetime-local" class="w-48 field text-sm" bind:value={events.since} />
      </label>
      <label class="flex items-center gap-1.5 text-quiet">
        to
        <input type="datetime-local" class="w-48 field text-sm" bind:value={events.until} />
      </label>
      <input
        type="search"
        aria-label="Search events"
        placeholder="identity, client, address or text"
        class="w-60 field text-sm"
        bind:value={events.text}
      />
    {/snippet}
    <Table
      columns={['Time', 'Event', 'Identity', 'Client', 'Address', 'What happened']}
      count={events.found.length}
      empty="No events match."
    >
      {#each events.found as event (event.id)}
        <tr class="border-b border-line/60 align-top hover:bg-page" data-event={event.kind}>
          <td class="py-1 pr-3 pl-5 whitespace-nowrap">{moment(event.at)}</td>
          <td class="px-3 py-1 whitespace-nowrap {WRONG.includes(event.kind) ? 'text-wrong' : ''}">
            {event.kind.replaceAll('-', ' ')}{event.count > 1 ? ` × ${count(event.count)}` : ''}
          </td>
          <td class="px-3 py-1 font-medium">{whose(event)}</td>
          <td class="px-3 py-1 text-quiet">{event.client_id === event.identity ? '' : event.client_id}</td>
          <td class="px-3 py-1 text-quiet">{event.address}</td>
          <td class="px-3 py-1 pr-5">{event.explanation}</td>
        </tr>
      {/each}
    </Table>
    {#if events.hasMore}
      <p class="border-t border-line px-5 py-2">
        <button type="button" class="plain-button text-sm" onclick={() => events.more()}>Older events</button>
      </p>
    {/if}
  </Panel>
</main>
