<script lang="ts">
  import { Tabs } from 'bits-ui';

  import { shell } from '$shell/context';
  import { count } from '$lib/format';
  import NoticeLine from '$ui/notice-line.svelte';
  import Panel from '$ui/panel.svelte';
  import AlertTable from './alert-table.svelte';
  import { Alerts } from './alerts.svelte';
  import InboxList from './inbox-list.svelte';
  import NoticeTable from './notice-table.svelte';

  const { service } = shell();
  const hasInbox = $derived(service.status?.has_inbox ?? false);
  const alerts = new Alerts(() => hasInbox);
  const raised = $derived(
    alerts.all?.filter(({ phase }) => phase === 'raised' || phase === 'clearing') ?? [],
  );
  const note = $derived(
    alerts.all === undefined
      ? ''
      : `${raised.length ? `${count(raised.length)} raised` : 'none raised'}; select one to see what it watches`,
  );
  let shown = $state('notices');

  $effect(() => alerts.poll.start());
</script>

<main class="flex min-h-0 min-w-0 flex-1 flex-col gap-4 px-6 py-4">
  <NoticeLine notice={alerts.notice} />
  <div class="flex min-h-0 flex-3 flex-col">
    <Panel title="Alerts" {note} fills>
      <AlertTable {alerts} canOperate={service.me?.role !== 'watch'} />
    </Panel>
  </div>
  <Tabs.Root bind:value={shown} class="flex min-h-0 flex-2 flex-col">
    <Panel
      title={shown === 'inbox' ? 'Inbox of the demo' : 'Notices'}
      note={shown === 'inbox'
        ? 'what its stand-in for mail servers and web hooks received'
        : alerts.waiting > 0
          ? `${count(alerts.waiting)} not delivered yet`
          : 'what was told, to whom, and whether it arrived'}
      fills
    >
      {#snippet tools()}
        {#if hasInbox}
          <Tabs.List class="flex gap-1 text-sm">
            {#each [['notices', 'Notices'], ['inbox', 'Inbox']] as const as [value, label] (value)}
              <Tabs.Trigger
                {value}
                class="rounded px-2 py-0.5 text-quiet data-[state=active]:bg-page data-[state=active]:text-ink"
              >
                {label}
              </Tabs.Trigger>
            {/each}
          </Tabs.List>
        {/if}
      {/snippet}
      <Tabs.Content value="notices" class="flex min-h-0 flex-1 flex-col data-[state=inactive]:hidden">
        <NoticeTable notices={alerts.notices} />
      </Tabs.Content>
      <Tabs.Content value="inbox" class="flex min-h-0 flex-1 flex-col data-[state=inactive]:hidden">
        <InboxList {alerts} canOperate={service.me?.role !== 'watch'} />
      </Tabs.Content>
    </Panel>
  </Tabs.Root>
</main>
