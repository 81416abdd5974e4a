<script lang="ts">
  interface Props {
    /** Oldest first. */
    values: readonly number[];
    /** What they are, for those who can't see them. */
    label: string;
    /** Whether the scale begins at 0, as it should for rates. @default false */
    fromZero?: boolean;
  }

  const { values, label, fromZero = false }: Props = $props();
  const WIDTH = 72;
  const HEIGHT = 16;

  const points = $derived.by(() => {
    const least = fromZero ? 0 : Math.min(...values);
    const span = Math.max(...values) - least;
    const across = WIDTH / Math.max(1, values.length - 1);
    // What does not change is drawn in the middle.
    const up = (value: number) => (span === 0 ? 0.5 : (value - least) / span);
    return values
      .map(
        (value, index) =>
          `${(index * across).toFixed(1)},${(HEIGHT - 1 - up(value) * (HEIGHT - 2)).toFixed(1)}`,
      )
      .join(' ');
  });
  const last = $derived(points.split(' ').at(-1)?.split(',') ?? []);
</script>

{#if values.length > 1}
  <svg width={WIDTH + 4} height={HEIGHT} role="img" aria-label={label} class="inline-block overflow-visible">
    <polyline {points} fill="none" stroke="var(--moss)" stroke-width="1.5" stroke-linejoin="round" />
    <circle cx={last[0]} cy={last[1]} r="2" fill="var(--rain)" />
  </svg>
{/if}
