<script lang="ts">
  import type { BridgeView } from '$api/client';
  import { bytes, count, span } from '$lib/format';
  import { flowOf } from './bridges';

  interface Props {
    bridge: BridgeView;
    now: number;
  }

  const { bridge, now }: Props = $props();
  const ago = (at: string | null | undefined) =>
    at ? `${span((now - Date.parse(at)) / 1_000)} ago` : 'never';
</script>

<table class="mt-3 w-full text-sm tabular-nums">
  <thead class="text-left text-xs text-quiet">
    <tr>
      <th scope="col" class="py-1 font-medium">Mapping</th>
      <th scope="col" class="px-3 font-medium">New name</th>
      <th scope="col" class="px-3 font-medium">QoS</th>
      <th scope="col" class="px-3 text-right font-medium">Now</th>
      <th scope="col" class="px-3 text-right font-medium">Messages</th>
      <th scope="col" class="px-3 text-right font-medium">Bytes</th>
      <th scope="col" class="px-3 text-right font-medium">Acknowledged</th>
      <th scope="col" class="pl-3 text-right font-medium">Last</th>
    </tr>
  </thead>
  <tbody>
    {#each bridge.mappings as mapping, place (place)}
      <tr class="border-t border-line/60 align-top">
        <td class="py-1 wrap-anywhere">
          <span class="text-quiet">{mapping.direction}</span>
          {mapping.filter}
          {#if mapping.condition}<span class="block text-xs text-quiet">where {mapping.condition}</span>{/if}
          {#if mapping.limit}<span class="block text-xs text-quiet">{mapping.limit} at most</span>{/if}
          {#each mapping.troubles as words (words)}<span class="block text-xs text-wrong">{words}</span
            >{/each}
          {#each Object.entries(mapping.flow.not_carried) as [reason, number] (reason)}
            <span class="block text-xs text-quiet">
              {count(number)} not carried: {reason.replaceAll('-', ' ')}
            </span>
          {/each}
        </td>
        <td class="px-3 py-1 wrap-anywhere">{mapping.new_name ?? 'the same'}</td>
        <td class="px-3 py-1">{mapping.highest_qos}</td>
        <td class="px-3 py-1 text-right whitespace-nowrap">{flowOf(mapping)}</td>
        <td class="px-3 py-1 text-right">{count(mapping.flow.messages)}</td>
        <td class="px-3 py-1 text-right whitespace-nowrap">{bytes(mapping.flow.bytes)}</td>
        <td class="px-3 py-1 text-right">{count(mapping.flow.acknowledged)}</td>
        <td class="py-1 pl-3 text-right whitespace-nowrap">{ago(mapping.last_at)}</td>
      </tr>
    {/each}
  </tbody>
</table>
