<script lang="ts">
  import type { LadderPacket } from '$api/client';
  import { bytes, precise } from '$lib/format';
  import { hexOf } from '$lib/payload';
  import { gapOf, rungs } from './ladder.svelte';

  interface Props {
    packets: LadderPacket[];
  }

  const { packets }: Props = $props();
  /** A gap from which on it is drawn, milliseconds. */
  const GAP = 1_000;
  const all = $derived(rungs(packets));
  let chosen = $state(0);
  const open = $derived(packets.find(({ number }) => number === chosen));
  const raw = $derived(open ? Uint8Array.from(atob(open.bytes), (char) => char.charCodeAt(0)) : undefined);
</script>

<div class="grid min-h-0 flex-1 grid-cols-[minmax(0,3fr)_minmax(0,2fr)] border-t border-line text-sm">
  <div class="min-h-0 overflow-y-auto">
    <div
      class="sticky top-0 z-10 grid grid-cols-[10.5rem_minmax(0,1fr)] border-b border-line bg-panel px-5 py-1 text-quiet"
    >
      <span>Time</span>
      <span class="flex justify-between"><span>Client</span><span>Broker</span></span>
    </div>
    <ol class="pb-4">
      {#each all as { packet, gap, begins } (packet.number)}
        {@const out = packet.direction === 'to-client'}
        {#if begins}
          <li class="grid grid-cols-[10.5rem_minmax(0,1fr)] px-5 pt-2 pb-1">
            <span></span>
            <span class="font-medium">
              {packet.client_id || 'not accepted'}
              <span class="font-normal text-quiet">{packet.identity} {packet.client_address}</span>
            </span>
          </li>
        {:else if gap !== undefined && gap >= GAP}
          <li class="grid grid-cols-[10.5rem_minmax(0,1fr)] px-5 text-xs text-quiet">
            <span class="text-right">⋮ &nbsp;</span>
            <span class="border-x border-dashed border-line py-1 text-center">{gapOf(gap)}</span>
          </li>
        {/if}
        <li class="grid grid-cols-[10.5rem_minmax(0,1fr)] px-5 {chosen === packet.number ? 'bg-page' : ''}">
          <span class="py-1 whitespace-nowrap text-quiet tabular-nums">
            {precise(packet.at)}
            {#if gap !== undefined && gap < GAP && !begins}<span class="text-xs">+{gapOf(gap)}</span>{/if}
          </span>
          <button
            class="border-x border-line px-0 py-1 text-left hover:bg-page"
            data-packet={packet.packet}
            data-direction={packet.direction}
            aria-expanded={chosen === packet.number}
            onclick={() => (chosen = chosen === packet.number ? 0 : packet.number)}
          >
            <span class="flex flex-col">
              <span class="flex items-baseline gap-2 px-3 {out ? 'flex-row-reverse' : ''}">
                <span class="font-semibold {packet.failure ? 'text-wrong' : out ? 'text-rain' : 'text-moss'}">
                  {packet.packet}
                </span>
                {#if packet.packet_id !== undefined}<span class="text-quiet">{packet.packet_id}</span>{/if}
                {#if packet.steps === 4}
                  <span class="text-xs tracking-widest text-quiet" title="step {packet.step} of 4 of QoS 2">
                    {'●'.repeat(packet.step ?? 0)}{'○'.repeat(4 - (packet.step ?? 0))}
                  </span>
                {/if}
                <span class="min-w-0 truncate {packet.failure ? 'text-wrong' : 'text-quiet'}">
                  {packet.summary}
                </span>
              </span>
              <span
                class="flex items-center {out ? 'flex-row-reverse text-rain' : 'text-moss'}"
                aria-label={out ? 'from broker to client' : 'from client to broker'}
              >
                <span class="h-px flex-1 bg-current"></span>
                <span class="-my-2 text-[0.6rem] leading-none">{out ? '◀' : '▶'}</span>
              </span>
            </span>
          </button>
        </li>
      {:else}
        <li class="px-5 py-6 text-center text-quiet">No packets have passed yet.</li>
      {/each}
    </ol>
  </div>
  <div class="min-h-0 overflow-y-auto border-l border-line px-5 py-2">
    {#if open && raw}
      <h3 class="font-semibold">{open.packet}</h3>
      <p class="text-quiet">
        {open.direction === 'to-client' ? 'broker to client' : 'client to broker'}, {bytes(open.size)}
        {open.steps ? `, step ${open.step} of ${open.steps}` : ''}
      </p>
      <dl class="mt-2 grid grid-cols-[auto_1fr] gap-x-4 gap-y-0.5" aria-label="Fields">
        {#each open.fields as { name, value }, place (place)}
          <dt class="text-quiet">{name}</dt>
          <dd class="wrap-anywhere">{value}</dd>
        {/each}
      </dl>
      <h4 class="mt-3 text-quiet">
        Bytes{raw.length < open.size || open.packet === 'CONNECT' ? ', without what is not kept' : ''}
      </h4>
      <pre class="font-mono text-xs whitespace-pre-wrap">{hexOf(raw)}</pre>
    {:else}
      <p class="text-quiet">Select a packet for its fields and bytes.</p>
    {/if}
  </div>
</div>
