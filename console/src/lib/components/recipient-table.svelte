<script lang="ts">
  import type { RecipientView } from '$lib/api/client';

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

<table class="w-full text-sm" data-recipients>
  <thead class="sticky top-0 bg-panel text-left text-quiet">
    <tr class="border-y border-line">
      {#each ['Client', 'QoS', 'Outcome', 'How'] as heading (heading)}
        <th scope="col" class="px-3 py-1.5 font-medium first:pl-5">{heading}</th>
      {/each}
    </tr>
  </thead>
  <tbody>
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
          {recipient.words.replace(`${recipient.outcome} `, '')}{#if recipient.shared}<span
              class="block text-xs text-quiet">{recipient.shared}</span
            >{/if}
        </td>
      </tr>
    {:else}
      <tr><td colspan="4" class="px-5 py-6 text-center text-quiet">{nobody}</td></tr>
    {/each}
  </tbody>
</table>
