<script lang="ts">
  interface Props {
    label: string;
    /** What is asked before it is done. */
    question: string;
    onconfirm: () => unknown;
  }

  const { label, question, onconfirm }: Props = $props();
  let asking = $state(false);
  const button = 'rounded border border-line px-2 py-0.5 text-sm whitespace-nowrap hover:bg-page';
</script>

{#if asking}
  <span class="flex flex-wrap items-center gap-2 text-xs">
    {question}
    <button
      type="button"
      class="{button} border-wrong text-wrong"
      onclick={() => {
        asking = false;
        onconfirm();
      }}
    >
      {label}
    </button>
    <button type="button" class={button} onclick={() => (asking = false)}>Cancel</button>
  </span>
{:else}
  <button type="button" class={button} onclick={() => (asking = true)}>{label}</button>
{/if}
