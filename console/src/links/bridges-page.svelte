<script lang="ts">
  import type { LinkState } from '$api/client';
  import { plural } from '$lib/format';
  import { shell } from '$shell/context';
  import NoticeLine from '$ui/notice-line.svelte';
  import Panel from '$ui/panel.svelte';
  import BridgeDetail from './bridge-detail.svelte';
  import BridgeMap from './bridge-map.svelte';
  import { Bridges } from './bridges.svelte';

  const { service } = shell();
  const bridges = new Bridges();
  const states: { state: LinkState; label: string }[] = [
    { state: 'open', label: 'Open' },
    { state: 'slow', label: 'Slow' },
    { state: 'cut', label: 'Cut' },
  ];
  const all = $derived(bridges.all ?? []);
  const down = $derived(all.filter(({ phase }) => phase === 'down').length);
  const canOperate = $derived(service.me?.role !== 'watch');
  let chosen = $state('');
  let now = $state(Date.now());
  const shown = $derived(all.find(({ name }) => name === chosen) ?? all[0]);
  const note = $derived(
    bridges.all === undefined
      ? ''
      : down
        ? `${plural(down, 'bridge')} down`
        : 'select one to see its mappings',
  );

  $effect(() => bridges.poll.start());
  // How long something lasts is as old as what is shown of it.
  $effect(() => {
    if (bridges.all) now = Date.now();
  });
</script>

<main class="flex min-h-0 min-w-0 flex-1 flex-col gap-4 px-6 py-4">
  <NoticeLine notice={bridges.notice} />
  <div class="flex min-h-0 flex-2 flex-col">
    <Panel title="Bridges" {note} fills>
      {#snippet tools()}
        {#if bridges.link}
          <span class="text-sm text-quiet" id="demo-link">Link of the demo</span>
          <div class="flex gap-1 text-sm" role="group" aria-labelledby="demo-link">
            {#each states as { state, label } (state)}
              <button
                type="button"
                class="plain-button {bridges.link === state ? 'border-moss font-semibold' : ''}"
                aria-pressed={bridges.link === state}
                disabled={!canOperate}
                onclick={() => bridges.setLink(state)}
              >
                {label}
              </button>
            {/each}
          </div>
        {/if}
      {/snippet}
      {#if bridges.all && all.length === 0}
        <p class="px-5 py-6 text-center text-quiet">
          No bridges. Add [[bridges]] to the blueprint; docs/BRIDGES.md tells how.
        </p>
      {:else if all.length > 0}
        <BridgeMap
          bridges={all}
          broker={service.status?.blueprint || bridges.broker}
          chosen={shown?.name ?? ''}
          {now}
          onchoose={(name) => {
            chosen = name;
            bridges.forget();
          }}
        />
      {/if}
    </Panel>
  </div>
  {#if shown}
    <div class="flex min-h-0 flex-3 flex-col">
      <Panel title="Details" fills>
        <BridgeDetail bridge={shown} {bridges} {now} {canOperate} />
      </Panel>
    </div>
  {/if}
</main>
