<script lang="ts">
  import { moment } from '$lib/format';
  import Table from '$ui/table.svelte';
  import type { Sessions } from './sessions.svelte';

  interface Props {
    sessions: Sessions;
    canOperate: boolean;
  }

  const { sessions, canOperate }: Props = $props();
</script>

<Table columns={['Who', 'Until', 'By', 'Note', '']} count={sessions.bans.length} empty="Nobody is banned.">
  {#each sessions.bans as ban (ban.id)}
    <tr class="border-b border-line/60 hover:bg-page" data-ban={ban.identity || ban.address}>
      <td class="py-1 pr-3 pl-5 font-medium">
        {ban.identity || ban.address}
        <span class="font-normal text-quiet">{ban.identity ? 'identity' : 'address'}</span>
      </td>
      <td class="px-3">{moment(ban.until)}</td>
      <td class="px-3">{ban.by}</td>
      <td class="px-3">{ban.note}</td>
      <td class="py-1 pr-5 pl-3 text-right">
        {#if canOperate}
          <button type="button" class="plain-button text-sm" onclick={() => sessions.lift(ban)}>
            Let in again
          </button>
        {/if}
      </td>
    </tr>
  {/each}
</Table>
