<script lang="ts">
  import ConfirmButton from '$ui/confirm-button.svelte';
  import { moment } from '$lib/format';
  import type { Identities } from './identities.svelte';

  interface Props {
    identities: Identities;
    mayChange: boolean;
  }

  const { identities, mayChange }: Props = $props();
  let name = $state('');
  let days = $state(90);
</script>

<div class="border-t border-line px-5 py-2 text-sm" data-tokens>
  <h3 class="font-semibold">Tokens</h3>
  <ul>
    {#each identities.tokens as token (token.name)}
      <li class="flex items-center gap-3 py-0.5">
        <span class="font-medium">{token.name}</span>
        <span class="text-xs text-quiet">expires {moment(token.expires_at)}</span>
        {#if mayChange}
          <span class="ml-auto">
            <ConfirmButton
              label="Revoke"
              question="Revoke {token.name}? Sessions that authenticated with it end."
              onconfirm={() => identities.revokeToken(token.name)}
            />
          </span>
        {/if}
      </li>
    {:else}
      <li class="text-quiet">No tokens. A token replaces the password and expires on a set date.</li>
    {/each}
  </ul>
  {#if identities.newToken}
    <p class="my-1 rounded bg-warn-ground px-3 py-1 text-warn-ink" role="status">
      Copy this token now. It is not shown again: <code class="break-all select-all"
        >{identities.newToken}</code
      >
    </p>
  {/if}
  {#if mayChange}
    <form
      class="mt-1 flex items-center gap-2"
      onsubmit={(event) => {
        event.preventDefault();
        void identities.makeToken(name, days);
        name = '';
      }}
    >
      <input
        class="w-28 field min-w-0 flex-1 text-sm"
        aria-label="Name of the token"
        placeholder="name"
        required
        bind:value={name}
      />
      <label class="whitespace-nowrap"
        >for <input class="w-16 field text-sm" type="number" min="1" max="3660" required bind:value={days} /> days</label
      >
      <button class="plain-button">Create token</button>
    </form>
  {/if}
</div>
