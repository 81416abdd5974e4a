<script lang="ts">
  interface Props {
    label: string;
    /** What is asked before it is done. */
    question: string;
    onconfirm: () => unknown;
  }

  const { label, question, onconfirm }: Props = $props();
  let asking = $state(false);
</script>

{#if asking}
  <span class="flex flex-wrap items-center gap-2 text-xs">
    {question}
    <button
      type="button"
      class="plain-button border-wrong text-sm text-wrong"
      onclick={() => {
        asking = false;
        onconfirm();
      }}
    >
      {label}
    </button>
    <button type="button" class="plain-button text-sm" onclick={() => (asking = false)}>Cancel</button>
  </span>
{:else}
  <button type="button" class="plain-button text-sm" onclick={() => (asking = true)}>{label}</button>
{/if}
