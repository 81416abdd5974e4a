<script lang="ts">
  import { count, moment, rate, span } from '$lib/format';
  import type { Order, Sessions } from './sessions.svelte';

  interface Props {
    sessions: Sessions;
  }

  const { sessions }: Props = $props();
  /** Each row is so high, pixels: only those in view are drawn. */
  const ROW = 30;
  const columns: { name: string; order?: Order; right?: boolean; wide: string }[] = [
    { name: 'Client', order: 'client', wide: 'minmax(8rem,2fr)' },
    { name: 'Identity', order: 'identity', wide: 'minmax(7rem,1.5fr)' },
    { name: 'Address', wide: 'minmax(9rem,1.5fr)' },
    { name: 'For', order: 'since', right: true, wide: '4.5rem' },
    { name: 'In/s', order: 'rate-in', right: true, wide: '4.5rem' },
    { name: 'Out/s', order: 'rate-out', right: true, wide: '4.5rem' },
    { name: 'Filters', order: 'subscriptions', right: true, wide: '4.5rem' },
    { name: 'Queued', order: 'queue', right: true, wide: '5rem' },
    { name: 'In flight', order: 'in-flight', right: true, wide: '5rem' },
    { name: 'Withheld', order: 'withheld', right: true, wide: '5.5rem' },
    { name: 'Refused', order: 'refused', right: true, wide: '5.5rem' },
  ];
  const grid = `grid-template-columns: ${columns.map(({ wide }) => wide).join(' ')}`;
  const cell = 'truncate px-2 first:pl-5 last:pr-5';
  const total = $derived(sessions.total ?? 0);
  let height = $state(0);
  let top = $state(0);
  let now = $state(Date.now());
  const first = $derived(Math.floor(top / ROW));
  const last = $derived(first + Math.ceil(height / ROW));
  const shown = $derived(
    sessions.rows
      .map((session, place) => ({ session, place: sessions.offset + place }))
      .filter(({ place }) => place >= first - 5 && place <= last + 5),
  );

  $effect(() => {
    if (sessions.rows) now = Date.now();
  });

  $effect(() => sessions.show(first));
</script>

<div
  role="table"
  aria-label="Sessions"
  aria-rowcount={total}
  class="flex min-h-0 flex-1 flex-col text-sm tabular-nums"
>
  <div
    role="row"
    class="grid [scrollbar-gutter:stable] overflow-y-hidden border-y border-line py-1 text-quiet"
    style={grid}
  >
    {#each columns as { name, order, right } (name)}
      {@const active = sessions.order === order}
      <div
        role="columnheader"
        aria-sort={active ? (sessions.descending ? 'descending' : 'ascending') : 'none'}
        class="{cell} {right ? 'text-right' : ''}"
      >
        {#if order}
          <button
            class="hover:text-ink {active ? 'font-semibold text-ink' : ''}"
            onclick={() => sessions.sort(order)}
          >
            {name}{active ? (sessions.descending ? ' ↓' : ' ↑') : ''}
          </button>
        {:else}
          {name}
        {/if}
      </div>
    {/each}
  </div>
  <div
    class="min-h-0 flex-1 overflow-y-scroll"
    bind:clientHeight={height}
    onscroll={(event) => (top = event.currentTarget.scrollTop)}
  >
    <div role="rowgroup" class="relative" style="height: {total * ROW}px">
      {#each shown as { session, place } (session.client_id)}
        {@const open = sessions.chosen === session.client_id}
        {@const withheld = session.withheld + session.dropped}
        <div
          role="row"
          aria-rowindex={place + 1}
          data-client={session.client_id}
          class="absolute inset-x-0 grid items-center border-b border-line/60 hover:bg-page {open
            ? 'bg-page'
            : ''}"
          style="top: {place * ROW}px; height: {ROW}px; {grid}"
        >
          <div role="cell" class={cell}>
            <button
              class="max-w-full truncate font-medium hover:underline"
              aria-expanded={open}
              onclick={() => sessions.choose(session.client_id)}
            >
              {session.client_id}
            </button>
          </div>
          <div role="cell" class={cell}>{session.identity}</div>
          <div role="cell" class="{cell} text-quiet">{session.connected ? session.address : 'away'}</div>
          <div role="cell" class="{cell} text-right" title={moment(session.since)}>
            {span((now - Date.parse(session.since)) / 1000)}
          </div>
          <div role="cell" class="{cell} text-right">{rate(session.rates.messages_in)}</div>
          <div role="cell" class="{cell} text-right">{rate(session.rates.messages_out)}</div>
          <div role="cell" class="{cell} text-right">{count(session.subscriptions)}</div>
          <div role="cell" class="{cell} text-right">{count(session.queue)}</div>
          <div role="cell" class="{cell} text-right">{count(session.in_flight)}</div>
          <div role="cell" class="{cell} text-right {withheld > 0 ? 'font-medium' : 'text-quiet'}">
            {count(withheld)}
          </div>
          <div
            role="cell"
            class="{cell} text-right {session.refused > 0 ? 'font-bold text-wrong' : 'text-quiet'}"
          >
            {count(session.refused)}
          </div>
        </div>
      {/each}
    </div>
    {#if sessions.total === 0}<p class="py-6 text-center text-quiet">No sessions match.</p>{/if}
  </div>
</div>
