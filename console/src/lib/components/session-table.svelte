<script lang="ts">
  import Search from '@lucide/svelte/icons/search';

  import { count } from '$lib/format';
  import { Sessions } from '$lib/state/sessions.svelte';
  import SessionRows from './session-rows.svelte';

  const sessions = new Sessions();
  const headings = ['Client', 'Identity', 'Address', 'MQTT', 'Since', 'In', 'Out', 'Queue', 'Refused'];
  const shown = $derived(sessions.list.length);
  const away = $derived(sessions.list.filter((session) => !session.connected).length);
  const match = $derived(sessions.search ? ' that match' : '');

  $effect(() => sessions.poll.start());
</script>

<section
  aria-label="Sessions"
  class="flex min-h-40 flex-1 flex-col overflow-hidden rounded-lg border border-line bg-panel"
>
  <div class="flex items-center gap-4 px-5 py-2.5">
    <h2 class="font-semibold">Sessions</h2>
    <p class="text-xs text-quiet">
      {shown < sessions.total
        ? `${count(shown)} of ${count(sessions.total)} shown; search for others`
        : `${count(shown - away)} connected${away > 0 ? `, ${count(away)} away` : ''}${match}; choose one for more`}
    </p>
    <label class="ml-auto flex items-center gap-2 rounded border border-line bg-page px-2 text-sm">
      <Search class="size-4 text-quiet" />
      <span class="sr-only">Search sessions</span>
      <input
        type="search"
        placeholder="client, identity or address"
        class="w-56 py-1 outline-none"
        bind:value={sessions.search}
        oninput={() => sessions.poll.now()}
      />
    </label>
  </div>
  <div class="min-h-0 flex-1 overflow-y-auto">
    <table class="w-full text-sm tabular-nums">
      <thead class="sticky top-0 bg-panel text-quiet">
        <tr class="border-y border-line">
          {#each headings as heading, index (heading)}
            <th
              scope="col"
              class="px-3 py-1.5 font-medium first:pl-5 last:pr-5 {index < 4 ? 'text-left' : 'text-right'}"
            >
              {heading}
            </th>
          {/each}
        </tr>
      </thead>
      <SessionRows {sessions} columns={headings.length} />
    </table>
  </div>
</section>
