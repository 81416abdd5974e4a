<script lang="ts">
  import type { BridgeView } from '$api/client';
  import { bytes, count, moment, plural, rate, span } from '$lib/format';
  import ConfirmButton from '$ui/confirm-button.svelte';
  import { MARKS, standingOf } from './bridges';
  import type { Bridges } from './bridges.svelte';
  import BridgeMappings from './bridge-mappings.svelte';
  import BridgePreview from './bridge-preview.svelte';

  interface Props {
    bridge: BridgeView;
    bridges: Bridges;
    now: number;
    canOperate: boolean;
  }

  const { bridge, bridges, now, canOperate }: Props = $props();
  const since = (at: string | null | undefined) => (at ? span((now - Date.parse(at)) / 1_000) : '');
  const rests = $derived(bridge.phase === 'paused' || bridge.phase === 'draining');
  const session = $derived(
    bridge.session_present === true
      ? ', its session there continued'
      : bridge.session_present === false
        ? ', with a new session there'
        : '',
  );
  const facts = $derived(
    [
      ['State', standingOf(bridge, now)],
      ['Remote', bridge.remote ?? bridge.remotes.join(', ')],
      ['Speaks', `MQTT ${bridge.version} as ${bridge.client_id}${session}`],
      ['Round trip', bridge.round_trip_us ? `${(bridge.round_trip_us / 1_000).toFixed(1)} ms` : ''],
      [
        'Waiting',
        `${plural(bridge.waiting.messages, 'message')} (${bytes(bridge.waiting.bytes)})${
          bridge.waiting.oldest_at ? `, the oldest for ${since(bridge.waiting.oldest_at)}` : ''
        }; ${count(bridge.waiting.in_flight)} in flight`,
      ],
      [
        'Room',
        `${count(bridge.room.messages)} messages, ${bytes(bridge.room.bytes)}${
          bridge.room.age_seconds ? `, ${span(bridge.room.age_seconds)}` : ''
        }; then ${bridge.room.full}`,
      ],
      ['Live', bridge.room.live === 'behind' ? 'behind all that waits' : 'beside what waits of other topics'],
      ['Pushed', `${plural(bridge.pushed.messages, 'message')}, ${rate(bridge.pushed.rate)}/s`],
      ['Pulled', `${plural(bridge.pulled.messages, 'message')}, ${rate(bridge.pulled.rate)}/s`],
      ['Identity here', bridge.identity],
    ].filter(([, value]) => value),
  );
  const dropped = $derived(Object.entries(bridge.dropped));
</script>

<div class="min-h-0 flex-1 overflow-y-auto border-t border-line px-5 py-3 text-sm" data-detail={bridge.name}>
  <div class="flex flex-wrap items-start justify-between gap-x-8 gap-y-2">
    <div>
      <h3 class="font-semibold">
        <span aria-hidden="true" class={bridge.phase === 'down' ? 'text-wrong' : 'text-moss'}
          >{MARKS[bridge.phase]}</span
        >
        {bridge.name}
      </h3>
      {#if bridge.purpose}<p class="text-quiet">{bridge.purpose}</p>{/if}
    </div>
    <div class="flex flex-wrap gap-2">
      <button type="button" class="plain-button" onclick={() => bridges.ask(bridge.name)}>Preview</button>
      {#if canOperate}
        {#if rests}
          <button type="button" class="plain-button" onclick={() => bridges.order(bridge.name, 'resume')}>
            Resume
          </button>
        {:else}
          <button type="button" class="plain-button" onclick={() => bridges.order(bridge.name, 'retry')}>
            Connect anew
          </button>
          <button type="button" class="plain-button" onclick={() => bridges.order(bridge.name, 'pause')}>
            Pause
          </button>
          <ConfirmButton
            label="Drain"
            question="It takes nothing new from here then."
            onconfirm={() => bridges.order(bridge.name, 'drain')}
          />
        {/if}
      {/if}
    </div>
  </div>
  {#if bridge.trouble && bridge.phase !== 'up'}
    <p class="mt-2 rounded bg-warn-ground px-3 py-1 text-warn-ink" role="alert">{bridge.trouble.words}</p>
  {:else if bridge.trouble}
    <p class="mt-2 text-quiet">Last trouble, {moment(bridge.trouble.at)}: {bridge.trouble.words}</p>
  {/if}
  {#each dropped as [reason, number] (reason)}
    <p class="mt-1 text-wrong">{count(number)} dropped: {reason.replaceAll('-', ' ')}</p>
  {/each}
  <dl class="mt-2 grid grid-cols-[auto_1fr_auto_1fr] gap-x-4 gap-y-0.5" aria-label="Facts">
    {#each facts as [name, value] (name)}
      <dt class="text-quiet">{name}</dt>
      <dd class="wrap-anywhere">{value}</dd>
    {/each}
  </dl>
  <BridgeMappings {bridge} {now} />
  <BridgePreview found={bridges.preview(bridge.name)} />
</div>
