<script lang="ts">
  import { untrack } from 'svelte';

  import { api, reasonOf, type AuditView } from '$api/client';
  import Panel from '$ui/panel.svelte';
  import { moment } from '$lib/format';
  import Table from '$ui/table.svelte';

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
  <Panel title="Audit" note={trouble || 'select a change to see the values before and after'} fills>
    {#snippet tools()}
      <input
        type="search"
        aria-label="Search changes"
        placeholder="person, change or object"
        class="w-56 field text-sm"
        bind:value={search}
        oninput={() => look()}
      />
    {/snippet}
    <Table
      columns={['Time', 'Person', 'Address', 'Change', 'Object']}
      count={audits.length}
      empty="No changes match your search."
    >
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
      {/each}
    </Table>
  </Panel>
</main>
