<script lang="ts">
  import type { Matrix, Right } from '$api/client';

  interface Props {
    matrix: Matrix;
  }

  const { matrix }: Props = $props();
  const words: Record<Right, string> = { all: 'all topics', some: 'some topics', none: 'no topic' };
  const fills: Record<Right, string> = {
    all: 'bg-moss text-panel',
    some: 'bg-warn-ground text-warn-ink',
    none: '',
  };
  const told = (right: Right, letter: string) => (right === 'none' ? '·' : letter);
</script>

<div class="min-h-0 flex-1 overflow-auto px-5 pb-3">
  <table class="text-xs">
    <thead class="sticky top-0 bg-panel">
      <tr>
        <th scope="col"><span class="sr-only">Topic</span></th>
        {#each matrix.rows as row (row.name)}
          <th scope="col" class="px-1 pb-1 text-left align-bottom font-medium">
            <span class="block max-h-36 rotate-180 [writing-mode:vertical-rl]">{row.name}</span>
          </th>
        {/each}
      </tr>
    </thead>
    <tbody>
      {#each matrix.topics as topic, index (topic)}
        <tr class="border-t border-line/60">
          <th scope="row" class="py-0.5 pr-4 text-left font-mono font-normal whitespace-nowrap">{topic}</th>
          {#each matrix.rows as row (row.name)}
            {@const { publish, subscribe } = row.rights[index]!}
            <td class="px-1 py-0.5">
              <span
                class="flex w-9 justify-around gap-px text-center"
                title="{row.name} can publish to {words[publish]}, subscribe to {words[subscribe]}"
              >
                <span class="flex-1 rounded-sm {fills[publish]}">{told(publish, 'P')}</span>
                <span class="flex-1 rounded-sm {fills[subscribe]}">{told(subscribe, 'S')}</span>
              </span>
            </td>
          {/each}
        </tr>
      {/each}
    </tbody>
  </table>
  <p class="pt-3 text-xs text-quiet">
    P publish, S subscribe. <span class="rounded-sm px-1 {fills.all}">P</span> all topics of the path,
    <span class="rounded-sm px-1 {fills.some}">P</span> some: a station's own, for instance.
  </p>
</div>
