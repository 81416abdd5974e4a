<script lang="ts">
  import LogOut from '@lucide/svelte/icons/log-out';
  import Moon from '@lucide/svelte/icons/moon';
  import Sun from '@lucide/svelte/icons/sun';

  import { span } from '$lib/format';
  import type { ConsoleState } from './console.svelte';
  import type { Theme } from './theme.svelte';

  interface Props {
    service: ConsoleState;
    theme: Theme;
  }

  const { service, theme }: Props = $props();
  const status = $derived(service.phase === 'signed in' ? service.status : undefined);
  const button =
    'flex items-center gap-1.5 whitespace-nowrap rounded px-2 py-1 text-sm text-quiet hover:bg-page hover:text-ink';
</script>

<header class="flex items-center gap-6 border-b border-line bg-panel px-6 py-2.5">
  <h1 class="flex items-center gap-2 text-lg font-bold">
    <img src="/icon.svg" alt="" class="size-6" />
    Moorfall
  </h1>
  {#if status}
    <dl class="flex gap-4 text-sm whitespace-nowrap [&_dd]:inline [&_dt]:inline [&_dt]:text-quiet">
      <div>
        <dt>Blueprint</dt>
        <dd>{status.blueprint || 'none'}{status.revision > 0 ? `, revision ${status.revision}` : ''}</dd>
      </div>
      <div>
        <dt>MQTT</dt>
        <dd
          class="tabular-nums"
          title={status.listeners.map((listener) => `${listener.name}: ${listener.url}`).join('\n')}
        >
          {status.listeners[0]?.url.replace('mqtt://', '')}
        </dd>
      </div>
      <div>
        <dt>Uptime</dt>
        <dd>{span(status.uptime_seconds)}</dd>
      </div>
      <div>
        <dt>Database</dt>
        <dd class={status.database.healthy ? '' : 'font-bold text-wrong'}>
          {status.database.healthy ? 'healthy' : 'unavailable'}
        </dd>
      </div>
    </dl>
  {/if}
  <div class="ml-auto flex gap-1">
    <button class={button} onclick={() => theme.toggle()}>
      {#if theme.dark}<Sun class="size-4" /> Light{:else}<Moon class="size-4" /> Dark{/if}
    </button>
    {#if status}
      <button class={button} title={service.me?.name} onclick={() => service.signOut()}>
        <LogOut class="size-4" /> Sign out
      </button>
    {/if}
  </div>
</header>
