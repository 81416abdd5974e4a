<script lang="ts">
  import { untrack } from 'svelte';

  import type { IdentityView } from '$api/client';
  import AuthorityList from './authority-list.svelte';
  import IdentityForm from './identity-form.svelte';
  import NoticeLine from '$ui/notice-line.svelte';
  import Panel from '$ui/panel.svelte';
  import TokenList from './token-list.svelte';
  import { count } from '$lib/format';
  import { shell } from '$shell/context';
  import { Identities, LISTED } from './identities.svelte';
  import Table from '$ui/table.svelte';

  const { service } = shell();
  const identities = new Identities();
  const mayChange = $derived(service.me !== undefined && service.me.role !== 'watch');
  const draft = $derived(identities.draft);
  const shown = $derived(identities.list.length);
  const attributes = (identity: IdentityView) =>
    Object.entries(identity.attributes)
      .map(([name, value]) => `${name}=${String(value)}`)
      .join(' ');

  /** Its credentials, in a word or two. */
  function by(identity: IdentityView): string {
    if (!identity.enabled) return 'disabled';
    const ways = [
      identity.has_password ? 'password' : '',
      identity.certificates?.length ? 'certificate' : '',
    ].filter((way) => way !== '');
    return ways.length > 0 ? ways.join(', ') : 'no credentials';
  }

  $effect(() => untrack(() => void identities.look()));
</script>

<main class="grid min-h-0 flex-1 grid-cols-[minmax(0,5fr)_minmax(0,3fr)] gap-4 px-6 py-4">
  <div class="flex min-h-0 flex-col gap-4">
    <Panel
      title="Identities"
      note={shown < LISTED ? `${count(shown)} can connect` : `First ${LISTED} shown; search for others.`}
      fills
    >
      {#snippet tools()}
        <input
          type="search"
          aria-label="Search identities"
          placeholder="name, note or reach=gorge"
          class="w-52 field text-sm"
          bind:value={identities.search}
          oninput={() => identities.look()}
        />
        {#if mayChange}
          <button class="plain-button text-sm" onclick={() => identities.begin()}>New identity</button>
        {/if}
      {/snippet}
      <Table
        columns={['Name', 'Credentials', 'Attributes', 'Note']}
        count={identities.list.length}
        empty="No identities match your search."
      >
        {#each identities.list as identity (identity.name)}
          <tr class="border-b border-line/60 {draft?.name === identity.name ? 'bg-page' : 'hover:bg-page'}">
            <td class="py-1 pr-3 pl-5">
              <button
                class="font-medium whitespace-nowrap hover:underline"
                onclick={() => identities.edit(identity)}
              >
                {identity.name}
              </button>
            </td>
            <td class="px-3 {identity.enabled ? '' : 'text-wrong'}">{by(identity)}</td>
            <td class="px-3 text-xs">{attributes(identity)}</td>
            <td class="max-w-36 truncate px-3 text-quiet" title={identity.note}>{identity.note}</td>
          </tr>
        {/each}
      </Table>
    </Panel>
    <Panel title="Authorities" note="certificate authorities trusted to sign client certificates">
      <AuthorityList {identities} mayChange={service.me?.role === 'own'} />
    </Panel>
  </div>
  <Panel title={draft ? (draft.isNew ? 'New identity' : draft.name) : 'Identity'} fills>
    {#snippet tools()}
      {#if draft && !draft.isNew}
        <a
          class="text-sm font-medium text-moss hover:underline"
          href="#/access?identity={encodeURIComponent(draft.name)}">Check access</a
        >
      {/if}
    {/snippet}
    <div class="min-h-0 flex-1 overflow-y-auto">
      <NoticeLine notice={identities.notice} class="mx-5 mb-2" />
      {#if draft}
        <IdentityForm {identities} {draft} {mayChange} />
        {#if !draft.isNew}<TokenList {identities} {mayChange} />{/if}
      {:else}
        <p class="px-5 text-sm text-quiet">Select an identity to see its details.</p>
      {/if}
    </div>
  </Panel>
</main>
