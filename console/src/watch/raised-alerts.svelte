<script lang="ts">
  import Bell from '@lucide/svelte/icons/bell';
  import BellOff from '@lucide/svelte/icons/bell-off';

  import type { Status } from '$api/client';
  import { count, span } from '$lib/format';

  interface Props {
    status: Status;
  }

  const { status }: Props = $props();
  const left = $derived(status.raised_alerts - status.worst_alerts.length);
  let now = $state(Date.now());

  $effect(() => {
    if (status) now = Date.now();
  });

  const since = (at: string | null | undefined) => (at ? `, for ${span((now - Date.parse(at)) / 1000)}` : '');
</script>

{#if status.worst_alerts.length > 0}
  <section aria-label="Raised alerts" class="overflow-hidden rounded-lg border border-wrong bg-panel text-sm">
    <ul>
      {#each status.worst_alerts as alert (alert.name)}
        <li
          class="flex items-baseline gap-3 border-b border-line/60 px-4 py-1 last:border-0"
          data-alert={alert.name}
        >
          {#if alert.quiet}
            <BellOff class="size-4 shrink-0 self-center text-quiet" aria-label="quiet" />
          {:else}
            <Bell class="size-4 shrink-0 self-center text-wrong" aria-hidden="true" />
          {/if}
          <a href="#/alerts" class="font-semibold whitespace-nowrap hover:underline">{alert.name}</a>
          <span class="min-w-0 truncate">
            {alert.subject}: {alert.value}{alert.subjects > 1 ? ` and ${count(alert.subjects - 1)} more` : ''}
          </span>
          <span class="ml-auto whitespace-nowrap text-quiet">{alert.severity}{since(alert.out_since)}</span>
        </li>
      {/each}
    </ul>
    {#if left > 0}
      <p class="px-4 py-1 text-quiet">
        <a href="#/alerts" class="hover:underline">{count(left)} more alerts</a>
      </p>
    {/if}
  </section>
{/if}
