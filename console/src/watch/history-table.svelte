<script lang="ts">
  import { moment } from '$lib/format';
  import Table from '$ui/table.svelte';
  import { KINDS } from './history';
  import type { Past } from './history.svelte';

  interface Props {
    past: Past;
  }

  const { past }: Props = $props();
  const lines = $derived(KINDS[past.kind].lines);
  /** The newest rows that fit a reader. */
  const ROWS = 200;

  const headings = $derived([
    'Time',
    ...lines.flatMap(({ label }) => [`>${label}`, `>${label}, peak`]),
    ...(past.earlier > 0 ? lines.map(({ label }) => `>${label}, before`) : []),
  ]);
  const rows = $derived.by(() => {
    const [at = [], ...values] = past.data;
    const count = lines.length;
    const picked = lines.flatMap((_, place) => [values[count + place], values[place]]);
    const columns = [...picked, ...values.slice(2 * count)];
    return Array.from(at, (time, row) => ({ time, cells: columns.map((column) => column?.[row]) }))
      .filter(({ cells }) => cells.some((cell) => cell != null))
      .slice(-ROWS)
      .reverse();
  });
  const shown = (value: number | null | undefined) =>
    value == null ? '' : value.toLocaleString('en-GB', { maximumFractionDigits: 2 });
</script>

<div class="mt-1 flex h-[206px] flex-col">
  <Table columns={headings} count={rows.length} empty="Nothing was measured in this range." dense>
    {#each rows as { time, cells } (time)}
      <tr class="border-b border-line">
        <td class="px-1.5 pl-5 whitespace-nowrap">{moment(new Date(time * 1000).toISOString())}</td>
        {#each cells as cell, place (place)}
          <td class="px-1.5 text-right last:pr-5">{shown(cell)}</td>
        {/each}
      </tr>
    {/each}
  </Table>
</div>
