<script lang="ts">
  import { untrack } from 'svelte';

  import DeskPane from './desk-pane.svelte';
  import ConfirmButton from '$ui/confirm-button.svelte';
  import { shell } from '$shell/context';
  import { desk } from './desk.svelte';

  const { service } = shell();
  const may = $derived(service.me !== undefined && service.me.role !== 'watch');
  const chosen = $derived(desk.setups.find((one) => one.name === desk.name));

  $effect(() => {
    if (may) untrack(() => void desk.look());
  });
</script>

<main class="flex min-h-0 flex-1 flex-col gap-3 px-6 py-4">
  {#if may}
    <div class="flex flex-wrap items-center gap-2 text-sm">
      <h1 class="font-semibold">Desk</h1>
      <p class="text-xs text-quiet">clients inside the service, each with the rights of an identity</p>
      <button class="plain-button" onclick={() => desk.add()}>Add client</button>
      <button class="plain-button" onclick={() => desk.openAll()}>Connect all</button>
      <form
        class="ml-auto flex items-center gap-2"
        onsubmit={(event) => {
          event.preventDefault();
          void desk.keep();
        }}
      >
        <select
          class="w-44 field"
          aria-label="Setup"
          value={chosen?.name ?? ''}
          onchange={(event) => {
            const setup = desk.setups.find((one) => one.name === event.currentTarget.value);
            if (setup) void desk.load(setup);
          }}
        >
          <option value="">Setup…</option>
          {#each desk.setups as setup (setup.name)}<option value={setup.name}>{setup.name}</option>{/each}
        </select>
        <input
          class="w-40 field"
          aria-label="Name of the setup"
          placeholder="name"
          required
          maxlength="100"
          bind:value={desk.name}
        />
        <button class="plain-button">Save</button>
        {#if chosen}
          {#key chosen.name}
            <ConfirmButton
              label="Delete"
              question="Delete this setup for everyone?"
              onconfirm={() => desk.forget(chosen.name)}
            />
          {/key}
        {/if}
      </form>
    </div>
    {#if desk.trouble}<p class="text-sm text-wrong" role="alert">{desk.trouble}</p>{/if}
    <datalist id="identities">
      {#each desk.identities as name (name)}<option value={name}></option>{/each}
      {#if service.me?.role === 'own'}<option value="administrator"></option>{/if}
    </datalist>
    <div class="flex min-h-0 flex-1 gap-3 overflow-x-auto" data-desk>
      {#each desk.panes as pane, index (pane.key)}<DeskPane {desk} {pane} number={index + 1} />{/each}
      {#if desk.panes.length === 0}
        <p class="m-auto text-sm text-quiet">No clients yet. Add a client to start.</p>
      {/if}
    </div>
  {:else}
    <p class="m-auto text-sm text-quiet">
      The desk needs the <code>operate</code> role, because its clients act as identities.
    </p>
  {/if}
</main>
