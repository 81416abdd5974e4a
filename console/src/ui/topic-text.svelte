<script lang="ts">
  interface Props {
    topic: string;
  }

  const { topic }: Props = $props();
  const levels = $derived(topic.split('/'));
</script>

<!-- A long topic is broken between levels, and within one only if it must be. -->
<span class="font-mono text-xs wrap-anywhere"
  >{#each levels as level, index (index)}{#if index > 0}/<wbr />{/if}{level}{/each}</span
>
