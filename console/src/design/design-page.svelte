<script lang="ts">
  import { untrack } from 'svelte';
  import { router } from 'svelte-spa-router';

  import { api } from '$api/client';
  import CheckResult from './check-result.svelte';
  import ComparisonView from './comparison-view.svelte';
  import NoticeLine from '$ui/notice-line.svelte';
  import Panel from '$ui/panel.svelte';
  import { moment } from '$lib/format';
  import { shell } from '$shell/context';
  import { Design } from './design.svelte';

  const { service } = shell();
  const design = new Design();
  let editor = $state<HTMLTextAreaElement>();
  const mayChange = $derived(service.me?.role === 'design' || service.me?.role === 'own');
  const mayApply = $derived(
    mayChange && design.isChanged && design.comparison?.check.ready === true && !design.busy,
  );

  /** Puts the cursor at the beginning of a line. */
  function go(file: string, line: number) {
    const index = design.draft.findIndex((known) => known.name === file);
    if (index >= 0) design.file = index;
    const text = design.draft[design.file]?.text ?? '';
    const lines = text.split('\n');
    const at = lines.slice(0, line - 1).reduce((sum, one) => sum + one.length + 1, 0);
    queueMicrotask(() => {
      if (!editor) return;
      editor.focus();
      editor.setSelectionRange(at, at + (lines[line - 1]?.length ?? 0));
      editor.scrollTop = (editor.scrollHeight / lines.length) * Math.max(0, line - 8);
    });
  }

  /** A topic that is to be planned comes with the address. */
  async function load() {
    await design.load();
    const topic = new URLSearchParams(router.querystring).get('plan');
    if (!topic) return;
    const { data } = await api.GET('/api/v1/topics/draft', { params: { query: { topic } } });
    if (!data) return;
    await design.add(data.text);
    const text = design.draft[design.file]!.text.trimEnd();
    go(design.draft[design.file]!.name, text.split('\n').length - 3);
  }

  $effect(() => {
    untrack(() => void load());
    return () => design.stop();
  });
</script>

<main class="grid min-h-0 flex-1 grid-cols-[15rem_3fr_2fr] gap-4 px-6 py-4">
  <Panel title="Revisions" fills>
    <ol class="min-h-0 flex-1 overflow-y-auto text-sm" data-revisions>
      {#each design.revisions as revision (revision.number)}
        <li
          class="border-t border-line/60 px-5 py-2 {design.shown?.number === revision.number
            ? 'bg-page'
            : ''}"
        >
          <button class="block w-full text-left" onclick={() => design.edit(revision.number)}>
            <b>{revision.number}</b>{revision.in_force ? ', in force' : ''}
            <span class="block text-xs">{revision.message || 'no message'}</span>
            <span class="block text-xs text-quiet">{revision.author}, {moment(revision.applied_at)}</span>
          </button>
          {#if !revision.in_force && mayChange}
            <button
              class="mt-1 plain-button text-sm"
              disabled={design.busy}
              onclick={() => design.revert(revision.number)}
            >
              Revert to this
            </button>
          {/if}
        </li>
      {:else}
        <li class="px-5 py-4 text-quiet">No revisions yet.</li>
      {/each}
    </ol>
  </Panel>
  <Panel title="Draft" note="based on revision {design.base}, checked as you type" fills>
    {#snippet tools()}
      {#if design.draft.length > 1}
        <select aria-label="File" class="plain-button bg-panel text-sm" bind:value={design.file}>
          {#each design.draft as file, index (file.name)}<option value={index}>{file.name}</option>{/each}
        </select>
      {:else}
        <span class="text-xs text-quiet">{design.draft[0]?.name ?? ''}</span>
      {/if}
    {/snippet}
    {#if design.draft[design.file]}
      <textarea
        bind:this={editor}
        aria-label="Blueprint text"
        spellcheck="false"
        wrap="off"
        class="min-h-0 flex-1 resize-none border-t border-line bg-page px-4 py-2 font-mono text-xs leading-5 outline-none"
        bind:value={design.draft[design.file]!.text}
        oninput={() => design.typed()}></textarea>
    {/if}
  </Panel>
  <Panel title="Check" fills>
    <div class="min-h-0 flex-1 overflow-y-auto px-5 pb-3 text-sm">
      <NoticeLine notice={design.notice} class="mb-2" />
      {#if design.trouble}<p class="mb-2 text-wrong" role="alert">{design.trouble}</p>{/if}
      {#if design.comparison}
        <CheckResult check={design.comparison.check} ongo={go} />
        {#if design.comparison.check.findings.every((finding) => finding.severity !== 'error')}
          <ComparisonView comparison={design.comparison} />
        {/if}
      {/if}
    </div>
    <form
      class="flex gap-2 border-t border-line px-5 py-3"
      onsubmit={(event) => {
        event.preventDefault();
        void design.apply();
      }}
    >
      <input
        aria-label="Message"
        placeholder={mayChange ? 'Describe the change' : 'Your role is read-only.'}
        class="field min-w-0 flex-1 text-sm"
        disabled={!mayChange}
        bind:value={design.message}
      />
      <button class="main-button text-sm" disabled={!mayApply}>
        {design.busy ? 'Applying…' : 'Apply'}
      </button>
    </form>
  </Panel>
</main>
