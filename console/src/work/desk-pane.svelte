<script lang="ts">
  import X from '@lucide/svelte/icons/x';

  import { plural, precise } from '$lib/format';
  import type { Desk, Pane } from './desk.svelte';
  import DeskPublish from './desk-publish.svelte';
  import TopicText from '$ui/topic-text.svelte';

  interface Props {
    desk: Desk;
    pane: Pane;
    /** Counted from 1. */
    number: number;
  }

  const { desk, pane, number }: Props = $props();
  const setup = $derived(pane.setup);
</script>

<section
  aria-label="Client {number}"
  class="flex max-h-full min-h-0 w-104 shrink-0 grow flex-col rounded-lg border border-line bg-panel text-sm"
>
  <header class="flex items-center gap-2 px-4 pt-2">
    <h2 class="font-semibold">Client {number}</h2>
    <p class="truncate text-xs {pane.isOpen ? 'text-moss' : 'text-quiet'}" data-state>
      {pane.isOpen ? `connected as ${pane.clientId}` : 'not connected'}
    </p>
    <button class="ml-auto" title="Remove client" onclick={() => desk.remove(pane)}
      ><X class="size-4 text-quiet" /></button
    >
  </header>
  <form
    class="flex flex-wrap items-center gap-x-2 gap-y-1 px-4 py-2"
    onsubmit={(event) => {
      event.preventDefault();
      void pane.open();
    }}
  >
    <input
      class="w-36 field"
      aria-label="Identity"
      placeholder="identity"
      list="identities"
      required
      disabled={pane.isOpen}
      bind:value={setup.identity}
    />
    <input
      class="w-36 field"
      aria-label="Client identifier"
      placeholder="assigned if empty"
      disabled={pane.isOpen}
      bind:value={setup.client_id}
    />
    <select class="field" aria-label="Version" disabled={pane.isOpen} bind:value={setup.version}>
      <option>5.0</option>
      <option>3.1.1</option>
    </select>
    <label class="flex items-center gap-1">
      <input type="checkbox" disabled={pane.isOpen} bind:checked={setup.clean_start} />
      {setup.version === '5.0' ? 'Clean Start' : 'Clean Session'}
    </label>
    <label class="flex items-center gap-1" title="How long the session stays after the connection, seconds">
      Session Expiry <input
        class="w-16 field"
        type="number"
        min="0"
        disabled={pane.isOpen}
        bind:value={setup.session_expiry}
      /> s
    </label>
    <input
      class="field min-w-36 flex-1 font-mono text-xs"
      aria-label="Will Topic"
      placeholder="Will Topic"
      disabled={pane.isOpen}
      bind:value={setup.will_topic}
    />
    <input
      class="field min-w-28 flex-1 font-mono text-xs"
      aria-label="Will Payload"
      placeholder="Will Payload"
      disabled={pane.isOpen}
      bind:value={setup.will_payload}
    />
    {#if pane.isOpen}
      <button type="button" class="plain-button" onclick={() => pane.close()}>Disconnect</button>
      <button type="button" class="plain-button" title="Without DISCONNECT" onclick={() => pane.close(true)}
        >Drop connection</button
      >
    {:else}
      <button class="main-button" disabled={pane.busy}>Connect</button>
    {/if}
  </form>
  <div class="border-t border-line px-4 py-2">
    <form
      class="flex items-center gap-2"
      onsubmit={(event) => {
        event.preventDefault();
        void pane.subscribe();
      }}
    >
      <input
        class="field flex-1 font-mono text-xs"
        aria-label="Topic filter"
        placeholder="topic filter"
        bind:value={pane.wanted.filter}
      />
      <select class="field" aria-label="QoS of the subscription" bind:value={pane.wanted.qos}>
        {#each [0, 1, 2] as qos (qos)}<option value={qos}>QoS {qos}</option>{/each}
      </select>
      <button class="plain-button" disabled={!pane.isOpen}>Subscribe</button>
    </form>
    {#if setup.version === '5.0'}
      <p class="mt-1 flex flex-wrap items-center gap-3 text-xs text-quiet">
        <label><input type="checkbox" bind:checked={pane.wanted.no_local} /> No Local</label>
        <label
          ><input type="checkbox" bind:checked={pane.wanted.retain_as_published} /> Retain As Published</label
        >
        <label>
          Retain Handling
          <select class="rounded border border-line bg-page" bind:value={pane.wanted.retain_handling}>
            <option value={0}>0, send</option>
            <option value={1}>1, send if new</option>
            <option value={2}>2, don’t send</option>
          </select>
        </label>
      </p>
    {/if}
    <ul class="flex flex-wrap gap-1 pt-1" data-filters>
      {#each setup.filters as one (one.filter)}
        <li class="flex items-center gap-1 rounded bg-page px-2 font-mono text-xs">
          {one.filter} <span class="text-quiet">{one.qos}</span>
          <button title="Unsubscribe {one.filter}" onclick={() => pane.unsubscribe(one.filter)}
            ><X class="size-3" /></button
          >
        </li>
      {/each}
    </ul>
  </div>
  <DeskPublish {pane} />
  <div class="flex items-center gap-2 border-t border-line px-4 py-1 text-xs text-quiet">
    {plural(pane.received, 'message')} received
    <button class="ml-auto text-moss hover:underline" onclick={() => pane.clear()}>Clear</button>
  </div>
  <ol class="min-h-24 flex-1 overflow-y-auto border-t border-line" data-lines>
    {#each pane.lines as line (line.key)}
      <li class="border-b border-line/60 px-4 py-1">
        {#if line.message}
          {@const message = line.message}
          <p class="flex items-baseline gap-2">
            <TopicText topic={message.topic} />
            <span class="ml-auto shrink-0 text-xs text-quiet">
              {message.retain ? 'retained, ' : ''}{message.duplicate ? 'duplicate, ' : ''}QoS {message.qos}, {precise(
                line.at,
              )}
            </span>
          </p>
          <p
            class="font-mono text-xs wrap-anywhere {(message.decoded ?? message.payload) === null
              ? 'text-quiet'
              : ''}"
          >
            {message.decoded ?? message.payload ?? `Base64: ${message.payload_base64}`}
          </p>
          {#each message.properties as { name, value }, index (index)}
            <p class="text-xs text-quiet">{name}: {value}</p>
          {/each}
        {:else}
          <p class="text-xs {line.bad ? 'text-wrong' : 'text-quiet'}">{precise(line.at)} {line.words}</p>
        {/if}
      </li>
    {/each}
  </ol>
</section>
