<script lang="ts">
  import { count, moment, span } from '$lib/format';
  import type { Sessions } from './sessions.svelte';
  import SessionDetail from './session-detail.svelte';

  interface Props {
    sessions: Sessions;
    columns: number;
  }

  const { sessions, columns }: Props = $props();
  let chosen = $state('');

  const age = (at: string) => span((Date.now() - Date.parse(at)) / 1000);
  const choose = (client: string) => (chosen = chosen === client ? '' : client);
</script>

{#each sessions.list as session (session.client_id)}
  {@const open = chosen === session.client_id}
  <tr class="border-b border-line/60 hover:bg-page {open ? 'bg-page' : ''}" data-client={session.client_id}>
    <td class="py-1.5 pr-3 pl-5">
      <button
        class="text-left font-medium hover:underline"
        aria-expanded={open}
        onclick={() => choose(session.client_id)}
      >
        {session.client_id}
      </button>
    </td>
    <td class="px-3">{session.identity}</td>
    <td class="px-3 text-quiet">{session.connected ? session.address : 'disconnected'}</td>
    <td class="px-3 text-quiet">{session.version}</td>
    <td class="px-3 text-right" title={moment(session.since)}>{age(session.since)}</td>
    <td class="px-3 text-right">{count(session.messages_in)}</td>
    <td class="px-3 text-right">{count(session.messages_out)}</td>
    <td class="px-3 text-right">{count(session.queue)}</td>
    <td class="py-1.5 pr-5 pl-3 text-right {session.refused > 0 ? 'font-bold text-wrong' : 'text-quiet'}">
      {count(session.refused)}
    </td>
  </tr>
  {#if open}
    <tr class="border-b border-line bg-page">
      <td colspan={columns} class="px-5 pt-1 pb-3"><SessionDetail {session} {sessions} /></td>
    </tr>
  {/if}
{/each}
