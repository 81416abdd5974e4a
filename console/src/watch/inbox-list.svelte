<script lang="ts">
  import type { InboxView } from '$api/client';
  import { moment } from '$lib/format';
  import type { Alerts } from './alerts.svelte';

  interface Props {
    alerts: Alerts;
    canOperate: boolean;
  }

  const { alerts, canOperate }: Props = $props();
  type Fault = InboxView['faults']['mail'];
  const faults: [Fault, string][] = [
    ['none', 'takes everything'],
    ['refuses', 'refuses'],
    ['hangs', 'does not answer'],
    ['bad-certificate', 'shows a wrong certificate'],
  ];
  const received = $derived(alerts.inbox?.received ?? []);
  let chosen = $state(0);
  const open = $derived(received.find(({ number }) => number === chosen) ?? received[0]);

  function set(way: 'mail' | 'hook', fault: string) {
    const now = alerts.inbox?.faults ?? { mail: 'none', hook: 'none' };
    void alerts.setFaults({ ...now, [way]: fault as Fault });
  }
</script>

{#if alerts.inbox}
  <div class="flex items-center gap-4 border-t border-line px-5 py-1.5 text-sm">
    {#each [['mail', 'Mail server'], ['hook', 'Web hook']] as const as [way, label] (way)}
      <label class="flex items-center gap-2">
        <span class="text-quiet">{label}</span>
        <select
          class="field"
          disabled={!canOperate}
          value={alerts.inbox.faults[way]}
          onchange={(event) => set(way, event.currentTarget.value)}
        >
          {#each faults as [fault, words] (fault)}<option value={fault}>{words}</option>{/each}
        </select>
      </label>
    {/each}
  </div>
{/if}
<div class="grid min-h-0 flex-1 grid-cols-2 border-t border-line text-sm">
  <ul class="overflow-y-auto border-r border-line">
    {#each received as one (one.number)}
      <li>
        <button
          class="w-full border-b border-line/60 px-5 py-1 text-left hover:bg-page {open === one
            ? 'bg-page'
            : ''}"
          data-received={one.way}
          onclick={() => (chosen = one.number)}
        >
          <span class="block font-medium">{one.title}</span>
          <span class="text-xs text-quiet">
            {moment(one.at)}, {one.way === 'mail'
              ? `letter to ${one.to}`
              : `call of ${one.to}`}{one.is_signed === false ? ', wrongly signed' : ''}
          </span>
        </button>
      </li>
    {:else}
      <li class="px-5 py-6 text-center text-quiet">Nothing has arrived yet.</li>
    {/each}
  </ul>
  <pre class="overflow-auto px-5 py-2 font-mono text-xs whitespace-pre-wrap">{open?.text ?? ''}</pre>
</div>
