<script lang="ts">
  import { Tabs } from 'bits-ui';

  import { count, plural } from '$lib/format';
  import { shell } from '$shell/context';
  import NoticeLine from '$ui/notice-line.svelte';
  import Panel from '$ui/panel.svelte';
  import BanList from './ban-list.svelte';
  import BusiestList from './busiest-list.svelte';
  import EndMany from './end-many.svelte';
  import SessionDetail from './session-detail.svelte';
  import SessionList from './session-list.svelte';
  import { Sessions, type Filter } from './sessions.svelte';

  const { service } = shell();
  const sessions = new Sessions();
  const canOperate = $derived(service.me?.role !== 'watch');
  const filter = $derived(sessions.filter);
  const narrow = $derived(!!filter.search || !!filter.connected || filter.trouble);
  const set = (change: Partial<Filter>) => (sessions.filter = { ...sessions.filter, ...change });
  const note = $derived(
    sessions.total === undefined ? '' : plural(sessions.total, 'session') + (narrow ? ' that match' : ''),
  );
  let shown = $state('all');
  const tabs = $derived<[string, string][]>([
    ['all', 'All'],
    ['busiest', 'Busiest'],
    ['bans', sessions.bans.length > 0 ? `Bans (${count(sessions.bans.length)})` : 'Bans'],
  ]);

  $effect(() => sessions.poll.start());
</script>

<main class="flex min-h-0 min-w-0 flex-1 flex-col gap-4 px-6 py-4">
  <NoticeLine notice={sessions.notice} />
  <Tabs.Root bind:value={shown} class="flex min-h-0 flex-1 flex-col">
    <Panel title="Sessions" {note} fills>
      {#snippet tools()}
        {#if shown === 'all'}
          <input
            type="search"
            aria-label="Search sessions"
            placeholder="client, identity or address"
            class="w-52 field text-sm"
            value={filter.search}
            oninput={(event) => set({ search: event.currentTarget.value })}
          />
          <select
            class="field text-sm"
            aria-label="Which"
            value={filter.connected}
            onchange={(event) => set({ connected: event.currentTarget.value as Filter['connected'] })}
          >
            <option value="">connected or away</option>
            <option value="true">connected</option>
            <option value="false">away</option>
          </select>
          <label class="flex items-center gap-1 text-sm">
            <input
              type="checkbox"
              checked={filter.trouble}
              onchange={(event) => set({ trouble: event.currentTarget.checked })}
            />
            with trouble
          </label>
          {#if canOperate}<EndMany {sessions} />{/if}
        {/if}
        <Tabs.List class="flex gap-1 text-sm">
          {#each tabs as [value, label] (value)}
            <Tabs.Trigger
              {value}
              class="rounded px-2 py-0.5 text-quiet data-[state=active]:bg-page data-[state=active]:text-ink"
            >
              {label}
            </Tabs.Trigger>
          {/each}
        </Tabs.List>
      {/snippet}
      {#if shown === 'all'}
        <SessionList {sessions} />
      {:else if shown === 'busiest'}
        <BusiestList />
      {:else}
        <BanList {sessions} {canOperate} />
      {/if}
    </Panel>
  </Tabs.Root>
  {#if shown === 'all' && sessions.details}
    <SessionDetail details={sessions.details} {sessions} {canOperate} />
  {/if}
</main>
