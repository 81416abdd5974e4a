<script lang="ts">
  import { router } from 'svelte-spa-router';

  import AccessMatrix from './access-matrix.svelte';
  import AccessQuestion from './access-question.svelte';
  import Panel from '$ui/panel.svelte';
  import { count, plural, span } from '$lib/format';
  import { AccessState } from './access.svelte';

  const access = new AccessState();
  const age = (at: string) => span((Date.now() - Date.parse(at)) / 1000);
  const shown = $derived(access.matrix?.rows.length ?? 0);

  $effect(() => {
    access.identity = new URLSearchParams(router.querystring).get('identity') ?? access.identity;
  });

  $effect(() => access.poll.start());
</script>

<main class="grid min-h-0 flex-1 grid-cols-[3fr_2fr] gap-4 px-6 py-4">
  <div class="flex min-h-0 flex-col gap-4">
    <Panel title="Explain" note="decided as for a live session"><AccessQuestion {access} /></Panel>
    <Panel
      title="Access matrix"
      note={shown < (access.matrix?.total ?? 0)
        ? `${count(shown)} of ${count(access.matrix?.total ?? 0)}`
        : ''}
      fills
    >
      {#snippet tools()}
        <input
          type="search"
          aria-label="Search names"
          placeholder="name"
          class="w-32 field text-sm"
          bind:value={access.search}
          oninput={() => access.poll.now()}
        />
        <select
          aria-label="Rows"
          class="field text-sm"
          bind:value={access.by}
          onchange={() => access.poll.now()}
        >
          <option value="cohorts">by cohort</option>
          <option value="identities">by identity</option>
        </select>
      {/snippet}
      {#if access.matrix && access.matrix.topics.length > 0}
        <AccessMatrix matrix={access.matrix} />
      {:else}
        <p class="px-5 pb-4 text-sm text-quiet">
          No planned topics. Add <code>[[topics]]</code> to the blueprint to fill the matrix.
        </p>
      {/if}
    </Panel>
  </div>
  <Panel title="Refusals" note="select one to see why" fills>
    <ul class="min-h-0 flex-1 overflow-y-auto text-sm" data-refusals>
      {#each access.refusals as refusal (`${refusal.identity} ${refusal.act} ${refusal.cause}`)}
        <li class="border-t border-line/60">
          <button
            class="block w-full px-5 py-2 text-left hover:bg-page"
            onclick={() => access.explainRefusal(refusal)}
          >
            <span class="flex gap-2">
              <b>{refusal.identity}</b>
              <span class="ml-auto text-xs text-quiet"
                >{plural(refusal.count, 'time')}, last {age(refusal.last)} ago</span
              >
            </span>
            <span class="block text-xs break-words">{refusal.explanation}</span>
          </button>
        </li>
      {:else}
        <li class="px-5 py-4 text-quiet">Nothing has been refused since the service started.</li>
      {/each}
    </ul>
  </Panel>
</main>
