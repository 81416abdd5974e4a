<script lang="ts">
  import { api, type Busiest } from '$api/client';
  import { bytes, count, rate } from '$lib/format';
  import { Poll } from '$lib/poll';
  import Table from '$ui/table.svelte';

  let of = $state<Busiest['of']>('sessions');
  let by = $state<Busiest['by']>('messages');
  let found = $state.raw<Busiest>();
  const names = { sessions: 'Client', identities: 'Identity', topics: 'Topic', branches: 'Branch' };
  const amount = $derived(by === 'bytes' ? bytes : count);
  const columns = $derived([names[of], by === 'bytes' ? '>Bytes' : '>Messages', '>Per second', '>Too many']);

  const poll = new Poll(5_000, async (signal) => {
    const params = { path: { of }, query: { by, limit: 100 } };
    const { data } = await api
      .GET('/api/v1/busiest/{of}', { params, signal })
      .catch(() => ({ data: undefined }));
    if (data && data.of === of && data.by === by) found = data;
  });

  $effect(() => poll.start());
</script>

<div class="flex items-center gap-3 border-t border-line px-5 py-1.5 text-sm">
  <select class="field" aria-label="Of" bind:value={of} onchange={() => poll.now()}>
    {#each Object.keys(names) as kind (kind)}<option>{kind}</option>{/each}
  </select>
  <span class="text-quiet">by</span>
  <select class="field" aria-label="By" bind:value={by} onchange={() => poll.now()}>
    <option>messages</option>
    <option>bytes</option>
  </select>
  {#if found}<span class="text-quiet">counted over the last {count(found.seconds)} s</span>{/if}
</div>
<Table {columns} count={found?.busiest.length ?? 0} empty="Nothing was sent in the last two minutes.">
  {#each found?.busiest ?? [] as busy (busy.name)}
    <tr class="border-b border-line/60 hover:bg-page" data-busy={busy.name}>
      <td class="py-1 pr-3 pl-5 font-medium wrap-anywhere">{busy.name}</td>
      <td class="px-3 text-right">{amount(busy.count)}</td>
      <td class="px-3 text-right">{by === 'bytes' ? bytes(busy.rate) : rate(busy.rate)}</td>
      <td class="py-1 pr-5 pl-3 text-right text-quiet">
        {busy.too_many > 0 ? `at most ${amount(busy.too_many)}` : ''}
      </td>
    </tr>
  {/each}
</Table>
