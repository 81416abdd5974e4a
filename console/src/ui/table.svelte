<script lang="ts">
  import type { Snippet } from 'svelte';
  import type { HTMLTableAttributes } from 'svelte/elements';

  interface Props extends HTMLTableAttributes {
    /** Headings; one that begins with `>` stands over numbers, at the right. */
    columns: string[];
    /** How many rows there are. */
    count: number;
    /** What is said when there are none. */
    empty: string;
    /** Whether its many columns stand close. @default false */
    dense?: boolean;
    /** In place of the first heading. */
    first?: Snippet;
    /** The rows. */
    children: Snippet;
  }

  const { columns, count, empty, dense = false, first, children, ...rest }: Props = $props();
</script>

<div class="min-h-0 flex-1 overflow-y-auto">
  <table class="w-full text-sm tabular-nums" {...rest}>
    <thead class="sticky top-0 bg-panel text-quiet">
      <tr class="border-y border-line">
        {#each columns as column, index (index)}
          <th
            scope="col"
            class="{dense ? 'px-1.5' : 'px-3'} py-1.5 font-medium whitespace-nowrap first:pl-5 last:pr-5
              {column.startsWith('>') ? 'text-right' : 'text-left'}"
          >
            {#if index === 0 && first}{@render first()}{:else}{column.replace('>', '')}{/if}
          </th>
        {/each}
      </tr>
    </thead>
    <tbody>
      {@render children()}
      {#if count === 0}
        <tr><td colspan={columns.length} class="px-5 py-6 text-center text-quiet">{empty}</td></tr>
      {/if}
    </tbody>
  </table>
</div>
