<script lang="ts">
  import type { Pane } from './desk.svelte';

  interface Props {
    pane: Pane;
  }

  const { pane }: Props = $props();
  const setup = $derived(pane.setup);
</script>

<form
  class="flex flex-col gap-1 border-t border-line px-4 py-2"
  onsubmit={(event) => {
    event.preventDefault();
    void pane.publish();
  }}
>
  <input
    class="field font-mono text-xs"
    aria-label="Topic"
    placeholder="topic"
    required
    bind:value={setup.topic}
  />
  <textarea
    class="h-12 field resize-y font-mono text-xs"
    aria-label="Payload"
    placeholder="payload"
    spellcheck="false"
    bind:value={setup.payload}></textarea>
  <p class="flex flex-wrap items-center gap-2">
    <select class="field" aria-label="Encoding" bind:value={setup.encoding}>
      <option value="text">text</option>
      <option value="json">JSON</option>
      <option value="hex">hex</option>
      <option value="base64">Base64</option>
    </select>
    <select class="field" aria-label="QoS" bind:value={setup.qos}>
      {#each [0, 1, 2] as qos (qos)}<option value={qos}>QoS {qos}</option>{/each}
    </select>
    <label class="flex items-center gap-1"><input type="checkbox" bind:checked={setup.retain} /> Retain</label
    >
    <button class="ml-auto main-button" disabled={!pane.isOpen}>Publish</button>
  </p>
  {#if setup.version === '5.0'}
    <details class="text-xs">
      <summary class="cursor-pointer text-quiet">Properties</summary>
      <div class="grid grid-cols-2 gap-1 pt-1">
        <input
          class="field"
          type="number"
          min="0"
          aria-label="Message Expiry Interval"
          placeholder="Message Expiry Interval, s"
          bind:value={setup.expiry}
        />
        <input
          class="field"
          aria-label="Content Type"
          placeholder="Content Type"
          bind:value={setup.content_type}
        />
        <input
          class="field"
          aria-label="Response Topic"
          placeholder="Response Topic"
          bind:value={setup.response_topic}
        />
        <input
          class="field"
          aria-label="Correlation Data"
          placeholder="Correlation Data"
          bind:value={setup.correlation}
        />
        <textarea
          class="col-span-2 h-10 field font-mono text-sm"
          aria-label="User Properties"
          placeholder="User Properties: name=value, one per line"
          bind:value={setup.user}></textarea>
      </div>
    </details>
  {/if}
</form>
