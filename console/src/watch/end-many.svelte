<script lang="ts">
  import { AlertDialog } from 'bits-ui';

  import type { EndReason, SessionView } from '$api/client';
  import { count, plural } from '$lib/format';
  import { TOGETHER, type Sessions } from './sessions.svelte';

  interface Props {
    sessions: Sessions;
  }

  const { sessions }: Props = $props();
  /** Sessions of the preview that are drawn. */
  const DRAWN = 1_000;
  const reasons: [EndReason, string][] = [
    ['administrative-action', 'Administrative action'],
    ['not-authorized', 'Not authorized'],
    ['server-busy', 'Server busy'],
    ['message-rate-too-high', 'Message rate too high'],
    ['quota-exceeded', 'Quota exceeded'],
    ['connection-rate-exceeded', 'Connection rate exceeded'],
  ];
  let open = $state(false);
  let who = $state.raw<{ total: number; sessions: SessionView[] }>({ total: 0, sessions: [] });
  let reason = $state<EndReason>('administrative-action');
  let keep = $state(false);
  const tooMany = $derived(who.total > TOGETHER);

  async function ask() {
    const found = await sessions.everyone();
    if (found) who = found;
    open = found !== undefined;
  }

  async function end() {
    open = false;
    const clients = who.sessions.map((session) => session.client_id);
    await sessions.end(clients, reason, keep);
  }
</script>

<button type="button" class="plain-button text-sm" disabled={!sessions.total} onclick={ask}>
  End these…
</button>
<AlertDialog.Root bind:open>
  <AlertDialog.Portal>
    <AlertDialog.Overlay class="fixed inset-0 bg-black/40" />
    <AlertDialog.Content
      class="fixed top-1/2 left-1/2 flex max-h-[80vh] w-full max-w-lg -translate-x-1/2 -translate-y-1/2 flex-col rounded-lg border border-line bg-panel p-6 shadow-lg"
    >
      <AlertDialog.Title class="text-lg font-semibold">End {plural(who.total, 'session')}?</AlertDialog.Title>
      <AlertDialog.Description class="mt-2 text-sm text-quiet">
        {#if tooMany}
          At most {count(TOGETHER)} are ended at a time. Narrow the filter.
        {:else}
          Exactly these. Clients are disconnected and can connect again; to prevent that, ban them.
        {/if}
      </AlertDialog.Description>
      <ul
        class="mt-3 min-h-0 flex-1 overflow-y-auto rounded border border-line text-sm"
        aria-label="Sessions that end"
      >
        {#each who.sessions.slice(0, DRAWN) as session (session.client_id)}
          <li class="flex gap-3 border-b border-line/60 px-3 py-0.5">
            <span class="font-medium">{session.client_id}</span>
            <span class="text-quiet">{session.identity}</span>
            <span class="ml-auto text-quiet">{session.connected ? session.address : 'away'}</span>
          </li>
        {/each}
        {#if who.total > DRAWN}<li class="px-3 py-0.5 text-quiet">{count(who.total - DRAWN)} more</li>{/if}
      </ul>
      <div class="mt-3 flex flex-wrap items-center gap-x-6 gap-y-2 text-sm">
        <label class="flex items-center gap-2">
          <span>Reason</span>
          <select class="field" bind:value={reason}>
            {#each reasons as [code, words] (code)}<option value={code}>{words}</option>{/each}
          </select>
        </label>
        <label class="flex items-center gap-2">
          <input type="checkbox" bind:checked={keep} />
          <span>end only connections, keep sessions</span>
        </label>
      </div>
      <div class="mt-5 flex justify-end gap-2 text-sm">
        <AlertDialog.Cancel class="rounded border border-line px-3 py-1.5">Cancel</AlertDialog.Cancel>
        <AlertDialog.Action
          class="rounded bg-wrong px-3 py-1.5 text-panel disabled:opacity-50"
          disabled={tooMany}
          onclick={end}
        >
          End them
        </AlertDialog.Action>
      </div>
    </AlertDialog.Content>
  </AlertDialog.Portal>
</AlertDialog.Root>
