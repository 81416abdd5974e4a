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
  let files = $state<FileList>();

  async function trust(event: SubmitEvent) {
    event.preventDefault();
    const file = files?.[0];
    if (!file || !(await identities.trust(name, await file.text()))) return;
    name = '';
    (event.target as HTMLFormElement).reset();
  }
</script>

<ul class="px-5 text-sm" data-authorities>
  {#each identities.authorities as authority (authority.name)}
    <li class="flex items-center gap-3 py-0.5">
      <b>{authority.name}</b>
      <span class="truncate">{authority.subject}</span>
      <span class="text-xs whitespace-nowrap text-quiet">expires {moment(authority.ends)}</span>
      {#if mayChange}
        <span class="ml-auto">
          <ConfirmButton
            label="Remove"
            question="Remove {authority.name}? Sessions that authenticated with client certificates end."
            onconfirm={() => identities.distrust(authority.name)}
          />
        </span>
      {/if}
    </li>
  {:else}
    <li class="text-quiet">
      No authorities. Listeners that use client certificates and name no authorities of their own trust the
      ones added here.
    </li>
  {/each}
</ul>
{#if mayChange}
  <form class="flex items-center gap-2 px-5 py-2 text-sm" onsubmit={trust}>
    <input
      class="w-40 field"
      aria-label="Name of the authority"
      placeholder="name"
      required
      bind:value={name}
    />
    <input
      type="file"
      aria-label="Certificate of the authority"
      accept=".pem,.crt,.cer"
      class="min-w-0 flex-1 text-xs text-quiet file:mr-2 file:rounded file:border file:border-line file:px-2 file:py-0.5 file:text-ink"
      required
      bind:files
    />
    <button class="plain-button">Add authority</button>
  </form>
{/if}
