<script lang="ts">
  import type { NoticeView } from '$api/client';
  import { count, moment } from '$lib/format';
  import Table from '$ui/table.svelte';

  interface Props {
    notices: NoticeView[];
  }

  const { notices }: Props = $props();
  const columns = ['Time', 'Notice', 'Contact', 'Way', 'To', 'State', '>Attempts'];
  let chosen = $state(0);
</script>

<Table {columns} count={notices.length} empty="Nobody was told anything yet.">
  {#each notices as notice (notice.number)}
    {@const open = chosen === notice.number}
    <tr
      class="border-b border-line/60 align-top hover:bg-page"
      data-notice={notice.kind}
      data-way={notice.way}
    >
      <td class="py-1 pr-3 pl-5 whitespace-nowrap">{moment(notice.at)}</td>
      <td class="px-3 py-1">
        <button
          class="text-left font-medium hover:underline"
          aria-expanded={open}
          onclick={() => (chosen = open ? 0 : notice.number)}
        >
          {notice.title}
        </button>
      </td>
      <td class="px-3 py-1 whitespace-nowrap">{notice.contact}</td>
      <td class="px-3 py-1 text-quiet">{notice.way}</td>
      <td class="px-3 py-1 wrap-anywhere text-quiet">{notice.target}</td>
      <td class="px-3 py-1 whitespace-nowrap {notice.state === 'delivered' ? 'text-quiet' : 'text-wrong'}">
        {notice.state.replace('-', ' ')}
      </td>
      <td class="px-3 py-1 pr-5 text-right">{count(notice.tries)}</td>
    </tr>
    {#if open}
      <tr class="border-b border-line bg-page">
        <td colspan={columns.length} class="px-5 py-2">
          <ul>
            {#each notice.attempts as attempt (attempt.at)}
              <li>
                <span class="text-quiet">{moment(attempt.at)}</span>
                <span class={attempt.delivered ? '' : 'text-wrong'}>{attempt.explanation}</span>
              </li>
            {:else}
              <li class="text-quiet">not tried yet</li>
            {/each}
            {#if notice.next_at}<li class="text-quiet">tried next at {moment(notice.next_at)}</li>{/if}
          </ul>
        </td>
      </tr>
    {/if}
  {/each}
</Table>
