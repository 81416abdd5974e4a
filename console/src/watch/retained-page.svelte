<script lang="ts">
  import { untrack } from 'svelte';

  import ConfirmButton from '$ui/confirm-button.svelte';
  import NoticeLine from '$ui/notice-line.svelte';
  import Panel from '$ui/panel.svelte';
  import RetainedDetail from './retained-detail.svelte';
  import { bytes, count, plural, span } from '$lib/format';
  import { shell } from '$shell/context';
  import { retained } from './retained.svelte';
  import Table from '$ui/table.svelte';

  const { service } = shell();
  const mayChange = $derived(service.me !== undefined && service.me.role !== 'watch');
  const shown = $derived(retained.list.length);
  const age = (at: string) => span((Date.now() - Date.parse(at)) / 1000);
  const note = $derived.by(() => {
    if (retained.trouble) return retained.trouble;
    const some = shown < retained.total ? `${count(shown)} of ` : '';
    return `${some}${count(retained.total)} match, ${bytes(retained.bytes)}`;
  });

  $effect(() => untrack(() => void retained.look()));
</script>

<main class="grid min-h-0 flex-1 grid-cols-[minmax(0,5fr)_minmax(0,3fr)] gap-4 px-6 py-4">
  <Panel title="Retained messages" {note} fills>
    {#snippet tools()}
      <input
        type="text"
        spellcheck="false"
        aria-label="Topic filter"
        class="w-56 field font-mono text-sm"
        bind:value={retained.filter}
        oninput={() => retained.look()}
      />
      <select
        aria-label="Order"
        class="field text-sm"
        bind:value={retained.sort}
        onchange={() => retained.look()}
      >
        <option value="topic">by topic</option>
        <option value="size">largest first</option>
        <option value="age">oldest first</option>
      </select>
    {/snippet}
    <Table
      columns={['', 'Topic', 'Payload', '>Size', '>Age']}
      count={retained.list.length}
      empty="No retained messages match this filter."
    >
      {#snippet first()}
        {#if mayChange}
          <input
            type="checkbox"
            aria-label="Select all listed"
            checked={shown > 0 && retained.chosen.size === shown}
            onchange={() => retained.toggleAll()}
          />
        {/if}
      {/snippet}
      {#each retained.list as one (one.topic)}
        <tr class="border-b border-line/60 hover:bg-page" data-topic={one.topic}>
          <td class="py-1 pl-5">
            {#if mayChange}
              <input
                type="checkbox"
                aria-label="Select {one.topic}"
                checked={retained.chosen.has(one.topic)}
                onchange={() => retained.toggle(one.topic)}
              />
            {/if}
          </td>
          <td class="px-3">
            <button
              class="text-left font-mono text-xs hover:underline"
              onclick={() => retained.show(one.topic)}
            >
              {one.topic}
            </button>
            {#if retained.hasPlan && !one.planned}<b class="ml-1 text-xs text-rain">not planned</b>{/if}
          </td>
          <td class="max-w-32 truncate px-3 font-mono text-xs text-quiet">{one.preview ?? '(binary)'}</td>
          <td class="px-3 text-right whitespace-nowrap">{bytes(one.bytes)}</td>
          <td class="px-3 pr-5 text-right whitespace-nowrap">{age(one.received_at)}</td>
        </tr>
      {/each}
    </Table>
    {#if mayChange}
      <div class="flex min-h-11 items-center gap-3 border-t border-line px-5 py-1.5 text-sm" data-choice>
        {#if retained.chosen.size > 0}
          <span>{count(retained.chosen.size)} selected</span>
          <ConfirmButton
            label="Clear"
            question="Clear {plural(
              retained.chosen.size,
              'retained message',
            )}? Subscribers receive an empty message for each."
            onconfirm={() => retained.clear()}
          />
        {:else}
          <span class="text-quiet"
            >Select messages to clear. Click a level of an open topic to select everything below it.</span
          >
        {/if}
        <NoticeLine notice={retained.notice} class="ml-auto" />
      </div>
    {/if}
  </Panel>
  <div class="flex min-h-0 flex-col gap-4">
    <Panel title="Message" fills><RetainedDetail {retained} {mayChange} /></Panel>
    {#if retained.cleared.length > 0}
      <Panel title="Recently cleared">
        <ul class="max-h-40 overflow-y-auto px-5 pb-3 text-sm" data-cleared>
          {#each retained.cleared as cleared (cleared.undo)}
            <li class="flex items-center gap-3 py-0.5">
              <span class="truncate">{cleared.words}</span>
              <button class="ml-auto plain-button" onclick={() => retained.restore(cleared)}>Restore</button>
            </li>
          {/each}
        </ul>
      </Panel>
    {/if}
  </div>
</main>
