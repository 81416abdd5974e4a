<script lang="ts">
  interface Props {
    /** What is counted. */
    name: string;
    /** The number, ready to read. */
    value: string;
    /** What else belongs to it. */
    note: string;
    /** How it moved against yesterday; empty if that is not known. */
    change?: string;
    /** The colour that the number has in the chart. @default "ink" */
    tone?: 'ink' | 'moss' | 'rain';
  }

  const { name, value, note, change = '', tone = 'ink' }: Props = $props();
  const tones = { ink: 'text-ink', moss: 'text-moss', rain: 'text-rain' };
</script>

<div class="rounded-lg border border-line bg-panel px-5 py-3" data-headline={name}>
  <h2 class="text-sm text-quiet">{name}</h2>
  <p class="text-3xl font-semibold tabular-nums {tones[tone]}">{value}</p>
  <p class="truncate text-xs text-quiet" title={note}>{note}</p>
  <p class="min-h-4 text-xs text-quiet" data-change>{change}</p>
</div>
