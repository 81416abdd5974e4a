<script lang="ts">
  import ConfirmButton from '$ui/confirm-button.svelte';
  import type { Draft, Identities } from './identities.svelte';

  interface Props {
    identities: Identities;
    draft: Draft;
    /** Whether the person who looks may change anything. */
    mayChange: boolean;
  }

  const { identities, draft, mayChange }: Props = $props();
</script>

<form
  class="grid grid-cols-[7rem_1fr] items-baseline gap-x-3 gap-y-2 px-5 pb-3 text-sm"
  onsubmit={(event) => {
    event.preventDefault();
    void identities.save();
  }}
>
  <label for="identity-name">Name</label>
  <input
    id="identity-name"
    class="w-full field text-sm"
    required
    disabled={!draft.isNew || !mayChange}
    bind:value={draft.name}
  />
  {#if !draft.isNew}
    <span></span>
    <a
      class="font-medium text-moss hover:underline"
      href="#/first-connection?identity={encodeURIComponent(draft.name)}">Connection details</a
    >
  {/if}
  <label for="identity-attributes">Attributes</label>
  <textarea
    id="identity-attributes"
    class="w-full field font-mono text-xs leading-5"
    rows="4"
    placeholder="kind=station&#10;reach=gorge"
    spellcheck="false"
    disabled={!mayChange}
    bind:value={draft.attributes}></textarea>
  <label for="identity-note">Note</label>
  <input id="identity-note" class="w-full field text-sm" disabled={!mayChange} bind:value={draft.note} />
  <label for="identity-client">Client identifier</label>
  <input
    id="identity-client"
    class="w-full field text-sm"
    placeholder="any"
    disabled={!mayChange}
    bind:value={draft.clientId}
  />
  <label for="identity-certificates">Certificates</label>
  <textarea
    id="identity-certificates"
    class="w-full field font-mono text-xs leading-5"
    rows="3"
    placeholder="dns:kettle-weir.harrowmere.example&#10;sha256:…"
    title="Certificate matches, one per line: subject:…, dns:…, email:…, uri:…, ip:… or sha256:…"
    spellcheck="false"
    disabled={!mayChange}
    bind:value={draft.certificates}></textarea>
  <label for="identity-password">New password</label>
  <input
    id="identity-password"
    class="w-full field text-sm"
    type="password"
    autocomplete="new-password"
    placeholder={draft.isNew ? 'none' : 'unchanged'}
    disabled={!mayChange}
    bind:value={draft.password}
  />
  <span></span>
  <label class="flex items-center gap-2">
    <input type="checkbox" disabled={!mayChange} bind:checked={draft.enabled} /> Enabled
  </label>
  {#if mayChange}
    <span></span>
    <div class="flex items-center gap-2">
      <button class="main-button">{draft.isNew ? 'Create' : 'Save'}</button>
      {#if !draft.isNew}
        <ConfirmButton
          label="Remove"
          question="Remove {draft.name}? Its sessions end, and their queued messages are lost."
          onconfirm={() => identities.remove()}
        />
      {/if}
    </div>
  {/if}
</form>
