<script lang="ts">
  import { untrack } from 'svelte';

  import { api, reasonOf, type AuditView } from '$lib/api/client';
  import Panel from '$lib/components/panel.svelte';
  import { moment } from '$lib/format';

  let audits = $state.raw<AuditView[]>([]);
  let search = $state('');
  let trouble = $state('');
  let chosen = $state(0);

  async function look() {
    const { data, error } = await api.GET('/api/v1/audit', { params: { query: { search, limit: 500 } } });
    audits = data ?? audits;
    trouble = data ? '' : reasonOf(error);
  }

  const shown = (value: unknown) =>
    value === null || value === undefined ? 'nothing' : JSON.stringify(value, null, 2);

  $effect(() => untrack(() => void look()));
</script>

<main class="flex min-h-0 flex-1 flex-col px-6 py-4">
  <Panel
    title="Audit"
    note={trouble || 'every change: who, when, from where; choose one for before and after'}
    fills
  >
    {#snippet tools()}
      <input
        type="search"
        aria-label="Search changes"
        placeholder="who, what or which"
        class="w-56 rounded border border-line bg-page px-2 py-0.5 text-sm"
        bind:value={search}
        oninput={() => look()}
      />
    {/snippet}
    <div class="min-h-0 flex-1 overflow-y-auto">
      <table class="w-full text-sm tabular-nums">
        <thead class="sticky top-0 bg-panel text-left text-quiet">
          <tr class="border-y border-line">
            {#each ['When', 'Who', 'From', 'What', 'Which'] as heading (heading)}
              <th scope="col" class="px-3 py-1.5 font-medium first:pl-5">{heading}</th>
            {/each}
          </tr>
        </thead>
        <tbody>
          {#each audits as audit (audit.id)}
            <tr class="border-b border-line/60 hover:bg-page">
              <td class="py-1 pr-3 pl-5">{moment(audit.at)}</td>
              <td class="px-3">{audit.person}</td>
              <td class="px-3 text-quiet">{audit.address}</td>
              <td class="px-3">{audit.act} {audit.kind}</td>
              <td class="px-3">
                <button
                  class="font-medium hover:underline"
                  aria-expanded={chosen === audit.id}
                  onclick={() => (chosen = chosen === audit.id ? 0 : audit.id)}
                >
                  {audit.name}
                </button>
              </td>
            </tr>
            {#if chosen === audit.id}
              <tr class="border-b border-line bg-page">
                <td colspan="5" class="px-5 py-2">
                  <div class="grid grid-cols-2 gap-4 font-mono text-xs">
                    <pre class="whitespace-pre-wrap">before: {shown(audit.before)}</pre>
                    <pre class="whitespace-pre-wrap">after: {shown(audit.after)}</pre>
                  </div>
                </td>
              </tr>
            {/if}
          {:else}
            <tr><td colspan="5" class="px-5 py-6 text-center text-quiet">No change matches.</td></tr>
          {/each}
        </tbody>
      </table>
    </div>
  </Panel>
</main>
