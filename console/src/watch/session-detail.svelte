<script lang="ts">
  import { AlertDialog } from 'bits-ui';

  import type { SessionView } from '$api/client';
  import { bytes, count, moment } from '$lib/format';
  import type { Sessions } from './sessions.svelte';

  interface Props {
    session: SessionView;
    sessions: Sessions;
  }

  const { session, sessions }: Props = $props();
  let failure = $state('');

  const facts = $derived<[string, string][]>([
    [session.connected ? 'Connected since' : 'Disconnected since', moment(session.since)],
    ['Session expires', expiry(session)],
    ['Bytes in / out', `${bytes(session.bytes_in)} / ${bytes(session.bytes_out)}`],
    ['Subscriptions', count(session.subscriptions)],
    ['In flight', count(session.in_flight)],
    ['Dropped (queue full)', count(session.dropped)],
    ['Withheld', count(session.withheld)],
  ]);

  function expiry({ persistent, connected, ends_at }: SessionView): string {
    if (!persistent) return 'on disconnect';
    if (connected) return 'after disconnect';
    return ends_at ? moment(ends_at) : 'never';
  }

  async function end() {
    failure = await sessions.end(session.client_id);
  }
</script>

<div class="flex items-start gap-8">
  <dl class="flex flex-wrap gap-x-8 gap-y-1">
    {#each facts as [name, value] (name)}
      <div>
        <dt class="text-xs text-quiet">{name}</dt>
        <dd>{value}</dd>
      </div>
    {/each}
    {#if session.last_refusal}
      <div class="basis-full">
        <dt class="text-xs text-quiet">
          Last refusal{session.last_refusal_at ? `, ${moment(session.last_refusal_at)}` : ''}
        </dt>
        <dd class="text-wrong">{session.last_refusal}</dd>
      </div>
    {/if}
  </dl>
  <div class="ml-auto text-right">
    <AlertDialog.Root>
      <AlertDialog.Trigger
        class="rounded border border-wrong px-3 py-1 whitespace-nowrap text-wrong hover:bg-wrong hover:text-panel"
      >
        End session
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay class="fixed inset-0 bg-black/40" />
        <AlertDialog.Content
          class="fixed top-1/2 left-1/2 w-full max-w-md -translate-x-1/2 -translate-y-1/2 rounded-lg border border-line bg-panel p-6 shadow-lg"
        >
          <AlertDialog.Title class="text-lg font-semibold"
            >End the session of {session.client_id}?</AlertDialog.Title
          >
          <AlertDialog.Description class="mt-2 text-sm text-quiet">
            The client is disconnected, its Will Message is published, and its queued messages are lost. The
            client can connect again; to prevent that, disable the identity {session.identity}.
          </AlertDialog.Description>
          <div class="mt-5 flex justify-end gap-2 text-sm">
            <AlertDialog.Cancel class="rounded border border-line px-3 py-1.5">Cancel</AlertDialog.Cancel>
            <AlertDialog.Action class="rounded bg-wrong px-3 py-1.5 text-panel" onclick={end}
              >End session</AlertDialog.Action
            >
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
    <p role="alert" class="mt-1 text-xs text-wrong">{failure}</p>
  </div>
</div>
