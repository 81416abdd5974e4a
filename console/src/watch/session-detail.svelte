<script lang="ts">
  import type { SessionDetails, SessionView } from '$api/client';
  import { bytes, count, moment, plural, rate, span } from '$lib/format';
  import ConfirmButton from '$ui/confirm-button.svelte';
  import Panel from '$ui/panel.svelte';
  import type { Sessions } from './sessions.svelte';

  interface Props {
    details: SessionDetails;
    sessions: Sessions;
    canOperate: boolean;
  }

  const { details: session, sessions, canOperate }: Props = $props();
  const times: [number, string][] = [
    [1_800, '30 min'],
    [7_200, '2 h'],
    [86_400, '1 day'],
    [604_800, '7 days'],
  ];
  let time = $state(1_800);
  const host = $derived(session.address.replace(/:\d+$/, '').replace(/^\[|\]$/g, ''));
  const reasons = (by: Record<string, number>) =>
    Object.entries(by)
      .map(([reason, times]) => `${count(times)} ${reason}`)
      .join(', ');
  const amount = (messages: number, size: number, now: number) =>
    `${plural(messages, 'message')}, ${bytes(size)}; ${rate(now)}/s`;

  const facts = $derived.by<[string, string][]>(() => {
    const { tls, rates, keep_alive_seconds: alive, certificate_ends_at: ends } = session;
    const known: [string, string | false][] = [
      [
        session.connected ? 'Connected' : 'Away since',
        moment(session.since) + (session.connected ? ` by ${session.listener}${tls && `, TLS ${tls}`}` : ''),
      ],
      [
        'Speaks',
        session.connected && `MQTT ${session.version}, ${alive ? `Keep Alive ${alive} s` : 'no Keep Alive'}`,
      ],
      ['Last packet', !!session.heard_at && moment(session.heard_at)],
      ['Signed in by', !!session.signed_in_by && session.signed_in_by],
      ['Certificate', !!session.certificate && session.certificate + (ends ? `, until ${moment(ends)}` : '')],
      ['Session', expiry(session)],
      ['In', amount(session.messages_in, session.bytes_in, rates.messages_in)],
      ['Out', amount(session.messages_out, session.bytes_out, rates.messages_out)],
      [
        'Queue',
        `${count(session.queue)} of ${count(session.queue_limit)} (${bytes(session.queue_bytes)}), ${count(session.in_flight)} in flight`,
      ],
      ['Dropped', session.dropped > 0 && `${count(session.dropped)} for a full queue`],
      ['Withheld', session.withheld > 0 && reasons(session.withheld_by)],
      ['Left out', session.left_out > 0 && `${count(session.left_out)}, of which a condition is not true`],
      [
        'Not owner',
        session.not_owner > 0 && `${count(session.not_owner)} withheld: another client owns the topic`,
      ],
      ['Refused', session.refused > 0 && reasons(session.refused_by)],
    ];
    return known.filter((fact): fact is [string, string] => fact[1] !== false);
  });

  function expiry({ persistent, connected, ends_at, began_at }: SessionView): string {
    const began = `began ${moment(began_at)}`;
    if (!persistent) return `${began}, ends with its connection`;
    if (connected) return `${began}, outlives its connection`;
    if (!ends_at) return `${began}, never expires`;
    return `${began}, expires in ${span((Date.parse(ends_at) - Date.now()) / 1000)}`;
  }
</script>

<Panel title={session.client_id} note={session.identity === session.client_id ? '' : session.identity}>
  {#snippet tools()}
    {#if canOperate}
      <a class="plain-button text-sm" href="#/ladder?session={encodeURIComponent(session.client_id)}"
        >Ladder</a
      >
      <select class="field text-sm" aria-label="Ban for" bind:value={time}>
        {#each times as [seconds, words] (seconds)}<option value={seconds}>{words}</option>{/each}
      </select>
      <ConfirmButton
        label="Ban identity"
        question="End all connections of {session.identity}?"
        onconfirm={() => sessions.ban({ identity: session.identity }, time)}
      />
      {#if session.connected}
        <ConfirmButton
          label="Ban address"
          question="End all connections from {host}?"
          onconfirm={() => sessions.ban({ address: host }, time)}
        />
        <ConfirmButton
          label="Disconnect"
          question="Its session stays if it is kept."
          onconfirm={() => sessions.end([session.client_id], 'administrative-action', true)}
        />
      {/if}
      <ConfirmButton
        label={session.connected ? 'End session' : 'Forget session'}
        question="What is queued for it is lost."
        onconfirm={() => sessions.end([session.client_id], 'administrative-action', false)}
      />
    {/if}
  {/snippet}
  <div
    class="grid max-h-56 grid-cols-[3fr_2fr] gap-x-8 overflow-y-auto border-t border-line px-5 py-2 text-sm"
  >
    <dl class="grid grid-cols-[auto_1fr] content-start gap-x-4 gap-y-0.5">
      {#each facts as [name, value] (name)}
        <dt class="text-quiet">{name}</dt>
        <dd class="wrap-anywhere">{value}</dd>
      {/each}
    </dl>
    <div class="flex flex-col gap-2">
      {#each [['Last refusal', session.last_refusal, session.last_refusal_at], ['How its last connection ended', session.last_end, session.last_end_at]] as [name, words, at] (name)}
        {#if words}
          <div data-fact={name}>
            <p class="text-quiet">{name}{at ? `, ${moment(at)}` : ''}</p>
            <p class={name === 'Last refusal' ? 'text-wrong' : ''}>{words}</p>
          </div>
        {/if}
      {/each}
      <div>
        <p class="text-quiet">Subscriptions</p>
        <ul>
          {#each session.filters as { filter, qos, condition } (filter)}
            <li class="wrap-anywhere">
              {filter} <span class="text-quiet">at QoS {qos}</span>
              {#if condition}<span class="block pl-4 text-quiet">only where {condition}</span>{/if}
            </li>
          {:else}
            <li class="text-quiet">none</li>
          {/each}
        </ul>
        {#if session.conditions.length > 0}
          <p class="mt-2 text-quiet">Conditions of the blueprint</p>
          <ul data-conditions>
            {#each session.conditions as { name, topics, condition } (name)}
              <li class="wrap-anywhere">
                {name} <span class="text-quiet">for {topics.join(', ')}</span>
                <span class="block pl-4 text-quiet">only where {condition}</span>
              </li>
            {/each}
          </ul>
        {/if}
      </div>
    </div>
  </div>
</Panel>
