<script lang="ts">
  import { bytes, precise } from '$lib/format';
  import { difference, pretty } from '$lib/payload';
  import type { Topic } from '$lib/state/topic.svelte';

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
  <div class="min-h-0 overflow-y-auto border-r border-line">
    <table class="w-full text-sm tabular-nums" data-messages>
      <thead class="sticky top-0 bg-panel text-left text-quiet">
        <tr class="border-b border-line">
          {#each ['At', 'By', 'QoS', 'Size', 'Payload', ''] as heading (heading)}
            <th scope="col" class="px-2 py-1.5 font-medium first:pl-5">{heading}</th>
          {/each}
        </tr>
      </thead>
      <tbody>
        {#each topic.messages.toReversed() as message (message.number)}
          <tr
            class="cursor-pointer border-b border-line/60 hover:bg-page
              {shown?.number === message.number ? 'bg-page' : ''}"
            onclick={() => topic.choose(message.number)}
          >
            <td class="py-1 pr-2 pl-5 text-xs whitespace-nowrap">{precise(message.at)}</td>
            <td class="max-w-32 truncate px-2">{message.publisher}</td>
            <td class="px-2">{message.qos}{message.retain ? ' kept' : ''}</td>
            <td class="px-2 whitespace-nowrap">{bytes(message.bytes)}</td>
            <td class="w-full max-w-0 truncate px-2 font-mono text-xs">{message.payload ?? '(no text)'}</td>
            <td class="px-2">
              <button
                class="text-xs text-moss hover:underline"
                onclick={(event) => {
                  event.stopPropagation();
                  topic.compareWith(message.number);
                }}>compare</button
              >
            </td>
          </tr>
        {:else}
          <tr>
            <td colspan="6" class="px-5 py-6 text-center text-quiet">
              No message has come since this page looks.
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
  <div class="flex min-h-0 flex-col gap-1 overflow-y-auto px-4 py-2 text-sm" data-difference>
    {#if shown}
      <p class="text-xs text-quiet">
        {precise(shown.at)}{other && lines ? `, compared with ${precise(other.at)}` : ''}
        {#if topic.isHeld}
          <button class="ml-1 text-moss hover:underline" onclick={() => topic.choose(undefined)}
            >follow the newest</button
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
            ? 'The payload is no text.'
            : pretty(shown.payload)}</pre>
      {/if}
    {:else}
      <p class="text-quiet">The newest message stands here, with what changed since the one before.</p>
    {/if}
  </div>
</div>
