<script lang="ts">
  import { ToggleGroup } from 'bits-ui';

  import type { HistoryRemark } from '$api/client';
  import { moment } from '$lib/format';
  import type { Theme } from '$shell/theme.svelte';
  import Chart from '$ui/chart.svelte';
  import { rangeOptions } from '$ui/chart';
  import { EARLIER, KINDS, RANGES, type KindName } from './history';
  import type { Past } from './history.svelte';
  import HistoryTable from './history-table.svelte';

  interface Props {
    past: Past;
    /** Whether readings come. */
    connected: boolean;
    theme: Theme;
  }

  const { past, connected, theme }: Props = $props();
  const kind = $derived(KINDS[past.kind]);
  const gaps = $derived(past.remarks.filter(({ kind }) => kind !== 'made-up'));
  let shows = $state<'chart' | 'table'>('chart');

  const options = $derived.by(() => {
    const { minutes, earlier } = past;
    const marks = () =>
      gaps.map(({ from, to }) => ({ from: Date.parse(from) / 1000, to: Date.parse(to) / 1000 }));
    return (place: HTMLElement) => rangeOptions(place, kind.lines, minutes, earlier > 0, marks);
  });
  const kinds = {
    stopped: 'the service was stopped',
    killed: 'the service ended unexpectedly',
    'database-away': 'the database was unavailable',
    'made-up': 'made up for the demo',
  };
  const remark = ({ from, to, kind }: HistoryRemark) => `${moment(from)} to ${moment(to)}: ${kinds[kind]}`;
  const step = $derived(
    past.step < 60
      ? `${past.step} s`
      : past.step < 3_600
        ? `${past.step / 60} min`
        : `${Math.round(past.step / 360) / 10} h`,
  );
  const before = $derived(EARLIER.find(({ minutes }) => minutes === past.earlier)?.name);
  const legend = $derived(`${kind.unit}. Pale: peaks.${past.earlier > 0 ? ` Dashed: ${before}.` : ''}`);
  const item =
    'rounded px-2 py-0.5 text-quiet hover:bg-page data-[state=on]:bg-moss data-[state=on]:text-panel';
</script>

<section aria-label="History" class="rounded-lg border border-line bg-panel px-5 py-3">
  <div class="flex flex-wrap items-center gap-x-4 gap-y-1">
    <ToggleGroup.Root
      type="single"
      aria-label="Measure"
      class="flex gap-1 text-sm font-medium"
      bind:value={() => past.kind, (value) => value && (past.kind = value as KindName)}
    >
      {#each Object.entries(KINDS) as [name, { name: words }] (name)}
        <ToggleGroup.Item value={name} class={item}>{words}</ToggleGroup.Item>
      {/each}
    </ToggleGroup.Root>
    <p class="text-xs {connected ? 'text-quiet' : 'font-bold text-wrong'}" data-live={connected}>
      {connected ? (past.isLive ? 'Live' : `A point each ${step}`) : 'Reconnecting…'}
    </p>
    <label class="ml-auto flex items-center gap-2 text-xs text-quiet">
      compared with
      <select class="field" bind:value={() => past.earlier, (minutes) => (past.earlier = minutes)}>
        {#each EARLIER as { minutes, name } (minutes)}
          <option value={minutes}>{name}</option>
        {/each}
      </select>
    </label>
    <ToggleGroup.Root
      type="single"
      aria-label="Range"
      class="flex gap-1 text-sm"
      bind:value={() => String(past.minutes), (value) => value && (past.minutes = Number(value))}
    >
      {#each RANGES as { minutes, name } (minutes)}
        <ToggleGroup.Item value={String(minutes)} class={item}>{name}</ToggleGroup.Item>
      {/each}
    </ToggleGroup.Root>
    <button
      type="button"
      class="plain-button text-xs"
      aria-pressed={shows === 'table'}
      onclick={() => (shows = shows === 'chart' ? 'table' : 'chart')}
    >
      {shows === 'chart' ? 'Table' : 'Chart'}
    </button>
  </div>
  {#if past.trouble}
    <p class="mt-1 text-sm text-wrong" role="alert">{past.trouble}</p>
  {/if}
  {#if shows === 'table'}
    <HistoryTable {past} />
  {:else}
    <div class="mt-1">
      <Chart
        {options}
        data={past.data}
        label="{kind.unit}, the last {past.minutes} minutes"
        dark={theme.dark}
      />
    </div>
  {/if}
  <p class="truncate text-xs text-quiet" title={past.remarks.map(remark).join('\n')}>
    {legend}
    {#if past.remarks.length > 0}
      <span data-remark>{past.remarks.slice(-2).map(remark).join('; ')}.</span>
    {/if}
  </p>
</section>
