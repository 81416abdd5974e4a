<script lang="ts">
  import X from '@lucide/svelte/icons/x';

  import { count, precise } from '$lib/format';
  import type { Desk, Pane } from '$lib/state/desk.svelte';
  import DeskPublish from './desk-publish.svelte';
  import TopicText from './topic-text.svelte';

  interface Props {
    desk: Desk;
    pane: Pane;
    /** Counted from 1. */
    number: number;
  }

  const { desk, pane, number }: Props = $props();
  const setup = $derived(pane.setup);
  const field = 'min-w-0 rounded border border-line bg-page px-2 py-0.5';
  const button = 'rounded border border-line px-2 py-0.5 whitespace-nowrap hover:bg-page disabled:opacity-50';
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
    <button class="ml-auto" title="Take it off the desk" onclick={() => desk.remove(pane)}
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
      class="{field} w-36"
      aria-label="Identity"
      placeholder="identity"
      list="identities"
      required
      disabled={pane.isOpen}
      bind:value={setup.identity}
    />
    <input
      class="{field} w-36"
      aria-label="Client identifier"
      placeholder="client id (any)"
      disabled={pane.isOpen}
      bind:value={setup.client_id}
    />
    <select class={field} aria-label="Version" disabled={pane.isOpen} bind:value={setup.version}>
      <option>5.0</option>
      <option>3.1.1</option>
    </select>
    <label class="flex items-center gap-1">
      <input type="checkbox" disabled={pane.isOpen} bind:checked={setup.clean_start} /> clean start
    </label>
    <label class="flex items-center gap-1" title="Seconds that the session outlives the connection">
      kept
      <input
        class="{field} w-16"
        type="number"
        min="0"
        disabled={pane.isOpen}
        bind:value={setup.session_expiry}
      /> s
    </label>
    <input
      class="{field} w-36 flex-1 font-mono text-xs"
      aria-label="Topic of the will"
      placeholder="topic of the will"
      disabled={pane.isOpen}
      bind:value={setup.will_topic}
    />
    <input
      class="{field} w-24 flex-1 font-mono text-xs"
      aria-label="Payload of the will"
      placeholder="its payload"
      disabled={pane.isOpen}
      bind:value={setup.will_payload}
    />
    {#if pane.isOpen}
      <button type="button" class={button} onclick={() => pane.close()}>Close</button>
      <button type="button" class={button} title="Without a goodbye" onclick={() => pane.close(true)}
        >Break</button
      >
    {:else}
      <button class="rounded bg-moss px-3 py-0.5 font-medium text-panel" disabled={pane.busy}>Open</button>
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
        class="{field} flex-1 font-mono text-xs"
        aria-label="Filter"
        placeholder="topic filter"
        bind:value={pane.wanted.filter}
      />
      <select class={field} aria-label="QoS of the subscription" bind:value={pane.wanted.qos}>
        {#each [0, 1, 2] as qos (qos)}<option value={qos}>QoS {qos}</option>{/each}
      </select>
      <button class={button} disabled={!pane.isOpen}>Subscribe</button>
    </form>
    {#if setup.version === '5.0'}
      <p class="mt-1 flex flex-wrap items-center gap-3 text-xs text-quiet">
        <label><input type="checkbox" bind:checked={pane.wanted.no_local} /> not its own</label>
        <label
          ><input type="checkbox" bind:checked={pane.wanted.retain_as_published} /> retain flag as published</label
        >
        <label>
          retained
          <select class="rounded border border-line bg-page" bind:value={pane.wanted.retain_handling}>
            <option value={0}>always</option>
            <option value={1}>if new</option>
            <option value={2}>never</option>
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
    {count(pane.received)} messages came
    <button class="ml-auto text-moss hover:underline" onclick={() => pane.clear()}>empty the list</button>
  </div>
  <ol class="min-h-24 flex-1 overflow-y-auto border-t border-line" data-lines>
    {#each pane.lines as line (line.key)}
      <li class="border-b border-line/60 px-4 py-1">
        {#if line.message}
          {@const message = line.message}
          <p class="flex items-baseline gap-2">
            <TopicText topic={message.topic} />
            <span class="ml-auto shrink-0 text-xs text-quiet">
              {message.retain ? 'retained, ' : ''}{message.duplicate ? 'again, ' : ''}QoS {message.qos}, {precise(
                line.at,
              )}
            </span>
          </p>
          <p class="font-mono text-xs wrap-anywhere {message.payload === null ? 'text-quiet' : ''}">
            {message.payload ?? `Base64: ${message.payload_base64}`}
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
