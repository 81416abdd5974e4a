<script lang="ts">
  import { bytes, moment, span } from '$lib/format';
  import type { Retained } from './retained.svelte';

  interface Props {
    retained: Retained;
    /** Whether the person who looks may clear anything. */
    mayChange: boolean;
  }

  const { retained, mayChange }: Props = $props();
  const message = $derived(retained.message);
  const levels = $derived(message?.about.topic.split('/') ?? []);

  /** JSON over several lines, other text as it is, anything else in hexadecimal digits. */
  const shown = $derived.by(() => {
    const text = message?.payload;
    if (text === null || text === undefined) return message?.payload_hex.replace(/(..)/g, '$1 ') ?? '';
    try {
      return JSON.stringify(JSON.parse(text), null, 2);
    } catch {
      return text;
    }
  });
</script>

{#if message}
  {@const about = message.about}
  <div class="flex min-h-0 flex-1 flex-col gap-3 overflow-y-auto px-5 pb-3 text-sm" data-message>
    <p class="font-mono text-xs break-all">
      {#each levels as level, index (index)}
        {#if index > 0}/{/if}{#if mayChange && index < levels.length - 1}<button
            class="text-moss hover:underline"
            title="Select all below {levels.slice(0, index + 1).join('/')}"
            onclick={() => retained.chooseBranch(levels.slice(0, index + 1).join('/'))}
            >{level || '(empty)'}</button
          >{:else}{level}{/if}
      {/each}
    </p>
    <dl class="grid grid-cols-[8rem_minmax(0,1fr)] gap-y-0.5 [&_dt]:text-quiet">
      <dt>Received</dt>
      <dd>{moment(about.received_at)}</dd>
      <dt>QoS, size</dt>
      <dd>{about.qos}, {bytes(about.bytes)}</dd>
      {#if about.expires_in !== null && about.expires_in !== undefined}
        <dt>Expires in</dt>
        <dd>{span(about.expires_in)}</dd>
      {/if}
      <dt>Publisher</dt>
      <dd>{about.publisher || 'unknown: published before the service started'}</dd>
      <dt>Subscribers</dt>
      <dd>
        <a class="text-moss hover:underline" href="#/journey?topic={encodeURIComponent(about.topic)}"
          >Preview the next message</a
        >
      </dd>
      {#if retained.hasPlan}
        <dt>Plan</dt>
        <dd class="font-mono text-xs break-all {about.planned ? '' : 'font-bold text-rain'}">
          {about.planned || 'not planned'}
        </dd>
      {/if}
      {#if message.content_type}
        <dt>Content Type</dt>
        <dd>{message.content_type}</dd>
      {/if}
      {#each message.user as { name, value }, index (index)}
        <dt>{name}</dt>
        <dd class="break-all">{value}</dd>
      {/each}
    </dl>
    <!-- svelte-ignore a11y_no_noninteractive_tabindex (who has no mouse scrolls it, too) -->
    <pre
      tabindex="0"
      role="region"
      aria-label="The payload"
      class="min-h-0 overflow-auto rounded bg-page px-3 py-2 font-mono text-xs break-all whitespace-pre-wrap">{shown}</pre>
  </div>
{:else}
  <p class="px-5 text-sm text-quiet">Select a topic to see its message.</p>
{/if}
