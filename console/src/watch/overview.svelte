<script lang="ts">
  import { untrack } from 'svelte';

  import TriangleAlert from '@lucide/svelte/icons/triangle-alert';

  import type { WindowAverage } from '$api/client';
  import { count, plural, rate } from '$lib/format';
  import type { ConsoleState } from '$shell/console.svelte';
  import { Live } from './live.svelte';
  import type { Theme } from '$shell/theme.svelte';
  import Headline from './headline.svelte';
  import { change } from './history';
  import HistoryPanel from './history-panel.svelte';
  import { Past } from './history.svelte';
  import RaisedAlerts from './raised-alerts.svelte';
  import RecentEvents from './recent-events.svelte';

  interface Props {
    service: ConsoleState;
    theme: Theme;
  }

  const { service, theme }: Props = $props();
  const past = new Past();
  const live = new Live((reading) => past.take(reading));
  const status = $derived(service.status);
  const average = $derived(live.reading?.average ?? status?.rates);
  const sessions = $derived(live.reading?.sessions ?? status?.sessions ?? 0);
  const withheld = $derived(live.reading?.totals.withheld ?? status?.withheld ?? 0);
  const refused = $derived(live.reading?.totals.refused ?? status?.refused ?? 0);
  const yesterday = $derived(live.reading?.yesterday ?? undefined);
  const windows = $derived(live.reading?.averages ?? []);
  const averages = (of: (window: WindowAverage) => number) =>
    windows.map((window) => `${window.window_seconds / 60} min ${rate(of(window))}`).join(' · ');
  const troubles = $derived([...(status?.warnings ?? []), ...(service.trouble ? [service.trouble] : [])]);

  $effect(() => {
    untrack(() => live.start());
    return () => live.stop();
  });

  $effect(() => past.start());
</script>

<main class="flex min-h-0 min-w-0 flex-1 flex-col gap-4 px-6 py-4">
  {#if status}<RaisedAlerts {status} />{/if}
  {#each troubles as words (words)}
    <p class="flex items-center gap-2 rounded bg-warn-ground px-4 py-2 text-sm text-warn-ink" role="alert">
      <TriangleAlert class="size-4 shrink-0" />
      {words}
    </p>
  {/each}
  <section aria-label="Now" class="grid grid-cols-4 gap-4">
    <Headline
      name="Connected sessions"
      value={count(sessions)}
      note="{count(status?.sessions_away ?? 0)} disconnected; {plural(
        status?.subscriptions ?? 0,
        'subscription',
      )}"
      change={change(sessions, yesterday?.sessions)}
    />
    <Headline
      name="Messages in/s"
      value={rate(average?.messages_in ?? 0)}
      note={averages((window) => window.messages_in)}
      change={change(average?.messages_in ?? 0, yesterday?.messages_in)}
      tone="moss"
    />
    <Headline
      name="Messages out/s"
      value={rate(average?.messages_out ?? 0)}
      note={averages((window) => window.messages_out)}
      change={change(average?.messages_out ?? 0, yesterday?.messages_out)}
      tone="rain"
    />
    <Headline
      name="Refused"
      value={count(refused)}
      note="since start; {plural(withheld, 'message')} withheld"
      change={change(windows[2]?.refused ?? 0, yesterday?.refused)}
    />
  </section>
  <HistoryPanel {past} connected={live.connected} {theme} />
  <div class="flex min-h-40 flex-1 flex-col">
    <RecentEvents drifts={status?.drifts ?? 0} />
  </div>
</main>
