<script lang="ts">
  import { untrack } from 'svelte';

  import BenchPane from '$lib/components/bench-pane.svelte';
  import ConfirmButton from '$lib/components/confirm-button.svelte';
  import { shell } from '$lib/state/context';

  const { bench, service } = shell();
  const may = $derived(service.me !== undefined && service.me.role !== 'watch');
  const chosen = $derived(bench.setups.find((one) => one.name === bench.name));
  const field = 'rounded border border-line bg-page px-2 py-0.5';
  const button = 'rounded border border-line px-2 py-0.5 hover:bg-panel disabled:opacity-50';

  $effect(() => {
    if (may) untrack(() => void bench.look());
  });
</script>

<main class="flex min-h-0 flex-1 flex-col gap-3 px-6 py-4">
  {#if may}
    <div class="flex flex-wrap items-center gap-2 text-sm">
      <h1 class="font-semibold">Bench</h1>
      <p class="text-xs text-quiet">clients in the service itself, as identities</p>
      <button class={button} onclick={() => bench.add()}>Add a client</button>
      <button class={button} onclick={() => bench.openAll()}>Open all</button>
      <form
        class="ml-auto flex items-center gap-2"
        onsubmit={(event) => {
          event.preventDefault();
          void bench.keep();
        }}
      >
        <select
          class="{field} w-44"
          aria-label="Set-up"
          value={chosen?.name ?? ''}
          onchange={(event) => {
            const setup = bench.setups.find((one) => one.name === event.currentTarget.value);
            if (setup) void bench.load(setup);
          }}
        >
          <option value="">set-ups …</option>
          {#each bench.setups as setup (setup.name)}<option value={setup.name}>{setup.name}</option>{/each}
        </select>
        <input
          class="{field} w-40"
          aria-label="Name of the set-up"
          placeholder="name"
          required
          maxlength="100"
          bind:value={bench.name}
        />
        <button class={button}>Keep it</button>
        {#if chosen}
          {#key chosen.name}
            <ConfirmButton
              label="Forget it"
              question="For everyone?"
              onconfirm={() => bench.forget(chosen.name)}
            />
          {/key}
        {/if}
      </form>
    </div>
    {#if bench.trouble}<p class="text-sm text-wrong" role="alert">{bench.trouble}</p>{/if}
    <datalist id="identities">
      {#each bench.identities as name (name)}<option value={name}></option>{/each}
      {#if service.me?.role === 'own'}<option value="administrator"></option>{/if}
    </datalist>
    <div class="flex min-h-0 flex-1 gap-3 overflow-x-auto" data-bench>
      {#each bench.panes as pane, index (pane.key)}<BenchPane {bench} {pane} number={index + 1} />{/each}
      {#if bench.panes.length === 0}
        <p class="m-auto text-sm text-quiet">The bench is empty. Add a client.</p>
      {/if}
    </div>
  {:else}
    <p class="m-auto text-sm text-quiet">
      Your role may look only; who works at the bench acts as identities, which needs the role operate.
    </p>
  {/if}
</main>
