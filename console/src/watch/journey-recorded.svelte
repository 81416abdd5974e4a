<script lang="ts">
  import { router } from 'svelte-spa-router';

  import type { RecordedMessage } from '$api/client';
  import { bytes, count, plural, precise, span } from '$lib/format';
  import { Recordings } from './recordings.svelte';
  import Panel from '$ui/panel.svelte';
  import RecipientTable from './recipient-table.svelte';
  import StepLine from '$ui/step-line.svelte';
  import { keptBack } from '$ui/owners';
  import TopicText from '$ui/topic-text.svelte';
  import Table from '$ui/table.svelte';

  interface Props {
    /** Whether the person who looks may record. */
    mayRecord: boolean;
  }

  const { mayRecord }: Props = $props();
  const recordings = new Recordings();
  recordings.filter = new URLSearchParams(router.querystring).get('topic') ?? '';
  const chosen = $derived(recordings.chosen);
  const shown = $derived(recordings.journey?.message);

  $effect(() => recordings.poll.start());

  /** The outcome of a message, in a few words. */
  function fate(message: RecordedMessage): string {
    if (message.refused) return 'refused';
    if (message.not_owner) return 'withheld';
    if (message.recipients === 0) return 'no subscribers';
    const parts = (['acknowledged', 'sent', 'queued', 'withheld'] as const).filter(
      (name) => message[name] > 0,
    );
    return parts.map((name) => `${count(message[name])} ${name}`).join(', ');
  }

  const tone = (message: RecordedMessage) =>
    message.refused || message.not_owner || message.withheld > 0
      ? 'text-wrong'
      : message.queued > 0
        ? 'text-rain'
        : '';
</script>

<Panel title="Record" note="up to 100 messages per second; the latest 500 are held">
  <div class="flex flex-wrap items-center gap-2 px-5 pb-3 text-sm">
    {#if mayRecord}
      <form
        class="flex min-w-96 flex-1 items-center gap-2"
        onsubmit={(event) => {
          event.preventDefault();
          void recordings.begin();
        }}
      >
        <input
          class="w-40 field min-w-24 flex-1 font-mono text-sm"
          aria-label="Topic filter"
          placeholder="topic filter"
          required
          bind:value={recordings.filter}
        />
        <label class="flex items-center gap-1 whitespace-nowrap">
          for
          <select class="field" bind:value={recordings.seconds}>
            {#each [10, 60, 300, 1_800, 3_600] as seconds (seconds)}
              <option value={seconds}>{span(seconds)}</option>
            {/each}
          </select>
        </label>
        <button class="shrink-0 main-button">Record</button>
      </form>
    {/if}
    {#if recordings.list.length > 0}
      <select
        class="max-w-52 field font-mono text-xs"
        aria-label="Recording"
        value={chosen?.number}
        onchange={(event) => recordings.choose(Number(event.currentTarget.value))}
      >
        {#each recordings.list as one (one.number)}
          <option value={one.number}>{one.number}: {one.filter}</option>
        {/each}
      </select>
    {/if}
    {#if chosen}
      <p class="text-xs text-quiet" data-recording={chosen.running ? 'running' : 'stopped'}>
        {#if chosen.running}
          <b class="text-moss">recording</b>, {span((Date.parse(chosen.ends_at) - Date.now()) / 1000)} left;
        {:else}stopped;{/if}
        {plural(chosen.seen, 'message')}{chosen.left_out > 0 ? `, ${count(chosen.left_out)} skipped` : ''}; by {chosen.by}
      </p>
      {#if chosen.running && mayRecord}
        <button class="plain-button" onclick={() => recordings.end(chosen.number)}>Stop recording</button>
      {/if}
    {/if}
  </div>
</Panel>
{#if recordings.trouble}<p class="text-sm text-wrong" role="alert">{recordings.trouble}</p>{/if}
<div class="grid min-h-0 flex-1 grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-4">
  <div class="flex min-h-0 flex-col">
    <Panel title="Messages" note={chosen ? `of recording ${chosen.number}, newest first` : ''} fills>
      <Table
        columns={['Time', 'Topic', 'Publisher', 'QoS', 'Outcome']}
        count={recordings.messages.length}
        empty={chosen
          ? 'No matching messages yet.'
          : 'No recordings yet. Enter a topic filter and select Record.'}
        data-messages
      >
        {#each recordings.messages as message (message.number)}
          <tr
            class="cursor-pointer border-b border-line/60 align-top hover:bg-page
                  {shown?.number === message.number ? 'bg-page' : ''}"
            onclick={() => recordings.show(message.number)}
          >
            <td class="py-1 pr-3 pl-5 text-xs whitespace-nowrap tabular-nums">{precise(message.at)}</td>
            <td class="w-full px-3 py-1"
              ><button class="text-left"><TopicText topic={message.topic} /></button></td
            >
            <td class="px-3 py-1 whitespace-nowrap">{message.identity}</td>
            <td class="px-3 py-1">{message.qos}</td>
            <td class="px-3 py-1 pr-5 whitespace-nowrap {tone(message)}">{fate(message)}</td>
          </tr>
        {/each}
      </Table>
    </Panel>
  </div>
  <div class="flex min-h-0 flex-col">
    <Panel title="Journey" note={shown ? `message ${shown.number}` : ''} fills>
      {#if shown && recordings.journey}
        <div class="min-h-0 flex-1 overflow-y-auto text-sm" data-journey>
          <div class="px-5 pb-2">
            <p><TopicText topic={shown.topic} /></p>
            <p class="text-quiet">
              {precise(shown.at)}, QoS {shown.qos}{shown.retain ? ', retained' : ''}, {bytes(
                shown.bytes,
              )}{shown.client_id && shown.client_id !== shown.identity ? `, client ${shown.client_id}` : ''}
            </p>
            {#if shown.preview}
              <!-- svelte-ignore a11y_no_noninteractive_tabindex (who has no mouse scrolls it, too) -->
              <pre
                tabindex="0"
                role="region"
                aria-label="The payload"
                class="my-1 max-h-24 overflow-auto rounded bg-page px-3 py-1 font-mono text-xs break-all whitespace-pre-wrap">{shown.preview}{shown.more
                  ? '…'
                  : ''}</pre>
            {/if}
            <ol>
              {#if shown.refused}<StepLine
                  good={false}
                  name="Refused"
                  words={shown.refused}
                />{:else}<StepLine good name="Access" words={shown.access} />{/if}
              {#if shown.plan}<StepLine
                  good={shown.plan.breach === null}
                  name="Plan"
                  words={shown.plan.explanation}
                />{/if}
              {#if shown.not_owner}<StepLine
                  good={false}
                  name="Owner"
                  words={keptBack(shown.not_owner)}
                />{/if}
            </ol>
          </div>
          <RecipientTable
            recipients={recordings.journey.recipients}
            nobody={shown.refused
              ? 'No recipients: the broker refused the message.'
              : shown.not_owner
                ? 'No recipients: another client owns the topic.'
                : 'No subscribers.'}
          />
        </div>
      {:else}
        <p class="px-5 text-sm text-quiet">
          Select a message to see who received it, when, and why others did not.
        </p>
      {/if}
    </Panel>
  </div>
</div>
