<script lang="ts">
  import type { BridgeView } from '$api/client';
  import { count } from '$lib/format';
  import { MARKS, flowOf, layOut, namesOf, stateOf } from './bridges';

  interface Props {
    bridges: BridgeView[];
    /** The name of this broker. */
    broker: string;
    /** Whose details are shown. */
    chosen: string;
    now: number;
    onchoose: (name: string) => void;
  }

  const { bridges, broker, chosen, now, onchoose }: Props = $props();
  const map = $derived(layOut(bridges));

  const lineOf = (phase: BridgeView['phase']) =>
    phase === 'up' || phase === 'draining'
      ? 'stroke-moss'
      : phase === 'down'
        ? 'stroke-wrong [stroke-dasharray:6_5]'
        : 'stroke-quiet [stroke-dasharray:2_4]';
  const colorOf = (phase: BridgeView['phase']) =>
    phase === 'down' ? 'border-wrong text-wrong' : phase === 'up' ? 'border-moss' : 'border-line';
</script>

<div class="min-h-0 flex-1 overflow-auto border-t border-line bg-page">
  <div
    class="relative mx-auto my-2"
    role="group"
    aria-label="Map of bridges"
    style:width="{map.width}px"
    style:height="{map.height}px"
  >
    <svg class="absolute inset-0" width={map.width} height={map.height} aria-hidden="true">
      <defs>
        <marker id="arrow" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto">
          <path d="M 0 0 L 8 4 L 0 8 z" fill="context-stroke" />
        </marker>
      </defs>
      {#each map.arrows as { key, bridge, path } (key)}
        <path
          d={path}
          fill="none"
          stroke-width={bridge.name === chosen ? 2.5 : 1.5}
          class={lineOf(bridge.phase)}
          marker-end="url(#arrow)"
        />
      {/each}
    </svg>
    <div
      class="absolute flex flex-col items-center justify-center rounded-lg border-2 border-ink bg-panel text-sm"
      style:left="{map.here.x}px"
      style:top="{map.here.y}px"
      style:width="{map.here.width}px"
      style:height="{map.here.height}px"
    >
      <span class="font-semibold">{broker}</span>
      <span class="text-xs text-quiet">this broker</span>
    </div>
    {#each map.mappings as { key, bridge, mapping, ...place } (key)}
      <button
        type="button"
        class="absolute overflow-hidden rounded border bg-panel px-2 text-left text-xs {colorOf(bridge.phase)}
          {bridge.name === chosen ? 'ring-2 ring-moss' : ''}"
        data-mapping={key}
        aria-label="{mapping.direction} {namesOf(mapping)}, {flowOf(
          mapping,
        )}, bridge {bridge.name} {bridge.phase}"
        style:left="{place.x}px"
        style:top="{place.y}px"
        style:width="{place.width}px"
        style:height="{place.height}px"
        onclick={() => onchoose(bridge.name)}
      >
        <span class="block truncate font-medium text-ink" title={namesOf(mapping)}>
          {mapping.direction === 'push' ? '→' : '←'}
          {mapping.filter}
        </span>
        <span class="block truncate text-quiet">
          {mapping.new_name ? `as ${mapping.new_name}, ` : ''}{flowOf(
            mapping,
          )}{#if mapping.troubles.length}<span class="text-wrong">, {count(mapping.troubles.length)} !</span
            >{/if}
        </span>
      </button>
    {/each}
    {#each map.remotes as { key, bridge, ...place } (key)}
      <button
        type="button"
        class="absolute flex flex-col items-center justify-center rounded-lg border-2 bg-panel text-sm
          {colorOf(bridge.phase)} {bridge.name === chosen ? 'ring-2 ring-moss' : ''}"
        data-bridge={key}
        data-phase={bridge.phase}
        aria-pressed={bridge.name === chosen}
        style:left="{place.x}px"
        style:top="{place.y}px"
        style:width="{place.width}px"
        style:height="{place.height}px"
        onclick={() => onchoose(bridge.name)}
      >
        <span class="font-semibold text-ink">{bridge.name}</span>
        <span class="text-xs"
          ><span aria-hidden="true">{MARKS[bridge.phase]}</span> {stateOf(bridge, now)}</span
        >
        {#if bridge.waiting.messages > 0}
          <span class="text-xs text-quiet">{count(bridge.waiting.messages)} waiting</span>
        {/if}
      </button>
    {/each}
  </div>
</div>
