<script lang="ts">
  import Search from '@lucide/svelte/icons/search';

  import { count } from '$lib/format';
  import { Sessions } from './sessions.svelte';
  import SessionRows from './session-rows.svelte';
  import Table from '$ui/table.svelte';

  const sessions = new Sessions();
  const columns = ['Client', 'Identity', 'Address', 'MQTT', '>For', '>In', '>Out', '>Queued', '>Refused'];
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
        : `${count(shown - away)} connected${away > 0 ? `, ${count(away)} disconnected` : ''}${match}`}
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
  <Table
    {columns}
    count={sessions.list.length}
    empty={sessions.search ? 'No sessions match your search.' : 'No sessions.'}
  >
    <SessionRows {sessions} columns={columns.length} />
  </Table>
</section>
