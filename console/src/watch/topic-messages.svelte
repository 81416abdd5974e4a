<script lang="ts">
  import { bytes, precise } from '$lib/format';
  import { difference, pretty } from '$lib/payload';
  import type { Topic } from './topic.svelte';
  import Table from '$ui/table.svelte';

  interface Props {
    topic: Topic;
  }

  const { topic }: Props = $props();
  const shown = $derived(topic.shown);
  const other = $derived(topic.other);
  const lines = $derived(
    shown?.payload != null && other?.payload != null ? difference(other.payload, shown.payload) : undefined,
  );
  const marks = { same: ' ', gone: '−', new: '+' };
  const tones = { same: '', gone: 'text-wrong', new: 'text-moss font-bold' };
</script>

<div class="grid min-h-0 flex-1 grid-cols-[minmax(0,3fr)_minmax(0,2fr)] border-t border-line">
  <div class="flex min-h-0 flex-col border-r border-line">
    <Table
      columns={['Time', 'Publisher', 'QoS', 'Size', 'Payload', '']}
      count={topic.messages.length}
      empty="No messages since you opened this page."
      data-messages
    >
      {#each topic.messages.toReversed() as message (message.number)}
        <tr
          class="cursor-pointer border-b border-line/60 hover:bg-page
              {shown?.number === message.number ? 'bg-page' : ''}"
          onclick={() => topic.choose(message.number)}
        >
          <td class="py-1 pr-2 pl-5 text-xs whitespace-nowrap">{precise(message.at)}</td>
          <td class="max-w-32 truncate px-2">{message.publisher}</td>
          <td class="px-2">{message.qos}{message.retain ? ' retained' : ''}</td>
          <td class="px-2 whitespace-nowrap">{bytes(message.bytes)}</td>
          <td class="w-full max-w-0 truncate px-2 font-mono text-xs">{message.payload ?? '(binary)'}</td>
          <td class="px-2">
            <button
              class="text-xs text-moss hover:underline"
              onclick={(event) => {
                event.stopPropagation();
                topic.compareWith(message.number);
              }}>Compare</button
            >
          </td>
        </tr>
      {/each}
    </Table>
  </div>
  <div class="flex min-h-0 flex-col gap-1 overflow-y-auto px-4 py-2 text-sm" data-difference>
    {#if shown}
      <p class="text-xs text-quiet">
        {precise(shown.at)}{other && lines ? `, compared with ${precise(other.at)}` : ''}
        {#if topic.isHeld}
          <button class="ml-1 text-moss hover:underline" onclick={() => topic.choose(undefined)}
            >Follow latest</button
          >
        {/if}
      </p>
      {#if lines}
        <pre class="font-mono text-xs whitespace-pre-wrap">{#each lines as line, index (index)}<span
              class={tones[line.kind]}
              >{marks[line.kind]} {line.text}
</span>{/each}</pre>
      {:else}
        <pre class="font-mono text-xs whitespace-pre-wrap">{shown.payload == null
            ? 'The payload is binary.'
            : pretty(shown.payload)}</pre>
      {/if}
    {:else}
      <p class="text-quiet">Select a message to see its payload and what changed.</p>
    {/if}
  </div>
</div>
