<script lang="ts">
  import type { RecipientView } from '$api/client';
  import Table from '$ui/table.svelte';

  interface Props {
    recipients: RecipientView[];
    /** What is said when there are none. */
    nobody: string;
  }

  const { recipients, nobody }: Props = $props();
  const colours = {
    sent: 'text-moss',
    acknowledged: 'text-moss',
    queued: 'text-rain',
    withheld: 'text-wrong',
    refused: 'text-wrong',
  };
</script>

<Table
  columns={['Client', 'QoS', 'Outcome', 'Reason']}
  count={recipients.length}
  empty={nobody}
  data-recipients
>
  {#each recipients as recipient, index (index)}
    <tr class="border-b border-line/60 align-top">
      <td class="py-1 pr-3 pl-5 font-medium wrap-anywhere">
        {recipient.client_id}
        {#if recipient.identity !== recipient.client_id}
          <span class="block text-xs font-normal text-quiet">{recipient.identity}</span>
        {/if}
      </td>
      <td class="px-3 py-1">{recipient.qos}</td>
      <td class="px-3 py-1 font-bold {colours[recipient.outcome]}">{recipient.outcome}</td>
      <td class="px-3 py-1">
        {recipient.explanation}{#if recipient.becomes}<span class="block text-moss"
            >across the bridge {recipient.becomes}</span
          >{/if}{#if recipient.shared}<span class="block text-xs text-quiet">{recipient.shared}</span>{/if}
      </td>
    </tr>
  {/each}
</Table>
