<script lang="ts">
  import Table from '$ui/table.svelte';
  import AlertDetail from './alert-detail.svelte';
  import { outOf, since } from './alerts';
  import type { Alerts } from './alerts.svelte';

  interface Props {
    alerts: Alerts;
    canOperate: boolean;
  }

  const { alerts, canOperate }: Props = $props();
  const columns = ['Alert', 'Severity', 'State', '>For', '>Now', 'Band', 'Watches'];
  const list = $derived(alerts.all ?? []);
  let chosen = $state('');
  let now = $state(Date.now());

  // How long something lasts is as old as what is shown of it.
  $effect(() => {
    if (list) now = Date.now();
  });
</script>

<Table
  {columns}
  count={list.length}
  empty={alerts.all ? 'No alerts. Add [[alerts]] to the blueprint.' : 'Looking…'}
>
  {#each list as alert (alert.name)}
    {@const open = chosen === alert.name}
    {@const out = alert.phase !== 'ok'}
    <tr
      class="border-b border-line/60 align-top hover:bg-page {open ? 'bg-page' : ''}"
      data-alert={alert.name}
      data-phase={alert.phase}
    >
      <td class="py-1.5 pr-3 pl-5 whitespace-nowrap">
        <button
          class="text-left font-medium hover:underline"
          aria-expanded={open}
          onclick={() => (chosen = open ? '' : alert.name)}
        >
          {alert.name}
        </button>
      </td>
      <td class="px-3 py-1.5 {out && alert.severity === 'critical' ? 'text-wrong' : 'text-quiet'}">
        {alert.severity}
      </td>
      <td class="px-3 py-1.5 whitespace-nowrap">
        <span class={alert.phase === 'raised' ? 'font-bold text-wrong' : out ? 'font-medium' : 'text-quiet'}>
          {alert.phase}
        </span>
        {#if alert.quiet}<span class="text-quiet">, quiet</span>{/if}
      </td>
      <td class="px-3 py-1.5 text-right whitespace-nowrap">{out ? since(alert.since, now) : ''}</td>
      <td class="px-3 py-1.5 text-right whitespace-nowrap">{outOf(alert)}</td>
      <td class="px-3 py-1.5 whitespace-nowrap">{alert.band}</td>
      <td class="px-3 py-1.5 pr-5 wrap-anywhere text-quiet">{alert.watches}</td>
    </tr>
    {#if open}
      <tr class="border-b border-line bg-page">
        <td colspan={columns.length} class="px-5 pt-1 pb-3">
          <AlertDetail {alert} {alerts} {now} {canOperate} />
        </td>
      </tr>
    {/if}
  {/each}
</Table>
