<script lang="ts">
  import ChevronDown from '@lucide/svelte/icons/chevron-down';
  import ChevronRight from '@lucide/svelte/icons/chevron-right';

  import { bytes, count, moment, rate, span } from '$lib/format';
  import type { Topics } from './topics.svelte';
  import SparkLine from '$ui/spark-line.svelte';
  import Self from './topic-rows.svelte';

  interface Props {
    topics: Topics;
    /** The branch whose levels these are; '' for the whole. */
    path: string;
    /** How deep they are. */
    depth: number;
  }

  const { topics, path, depth }: Props = $props();
  const list = $derived(topics.branch(path));
  const margins = ['pl-5', 'pl-10', 'pl-15', 'pl-20', 'pl-25', 'pl-30', 'pl-35', 'pl-40'];
  const margin = $derived(margins[Math.min(depth, margins.length - 1)]);
  const link = (path: string) => `#/topic?name=${encodeURIComponent(path)}`;
  const age = (at: string) => span((Date.now() - Date.parse(at)) / 1000);
</script>

{#each list?.levels ?? [] as level (level.path)}
  {@const open = topics.branch(level.path) !== undefined}
  <tr class="border-b border-line/60 hover:bg-page" data-topic={level.path}>
    <td class="py-1 pr-2 whitespace-nowrap {margin}">
      {#if level.has_children}
        <button
          class="flex items-center gap-1 font-medium"
          aria-expanded={open}
          onclick={() => topics.toggle(level.path)}
        >
          {#if open}<ChevronDown class="size-4 text-quiet" />{:else}<ChevronRight
              class="size-4 text-quiet"
            />{/if}
          {level.level === '' ? '(empty)' : level.level}
        </button>
        {#if level.is_topic}
          <a class="ml-5 text-xs text-moss hover:underline" href={link(level.path)}>topic itself</a>
        {/if}
      {:else}
        <a class="pl-5 hover:underline" href={link(level.path)}
          >{level.level === '' ? '(empty)' : level.level}</a
        >
      {/if}
    </td>
    <td class="px-1.5 text-right">{level.has_children ? count(level.topics) : ''}</td>
    <td class="px-1.5 text-right">{rate(level.rate)}</td>
    <td class="w-full max-w-0 truncate px-1.5 font-mono text-xs" title={level.value ?? ''}>
      {level.is_topic ? (level.value ?? `(binary, ${bytes(level.value_bytes)})`) : ''}
    </td>
    <td class="px-1.5">
      {#if level.is_topic && level.numbers.length > 1}
        <SparkLine values={level.numbers} label="numbers of {level.path}" />
      {:else if !level.is_topic}
        <SparkLine values={topics.rates(level.path)} label="rate of {level.path}" fromZero />
      {/if}
    </td>
    <td class="px-1.5 text-right whitespace-nowrap" title={moment(level.last)}>{age(level.last)}</td>
    <td class="px-1.5">{level.retained ? 'yes' : ''}</td>
    <td class="px-1.5">
      {#if level.is_topic && list?.has_plan}
        <span class={level.planned === '' ? 'font-bold text-rain' : 'text-quiet'} title={level.planned}>
          {level.planned === '' ? 'no' : 'yes'}
        </span>
      {/if}
    </td>
    <td class="py-1 pr-5 pl-3 text-right">{level.is_topic ? count(level.subscribers) : ''}</td>
  </tr>
  {#if open}<Self {topics} path={level.path} depth={depth + 1} />{/if}
{/each}
{#if list && list.levels.length < list.count}
  <tr>
    <td colspan="9" class="py-1 pr-3 text-quiet {margin}">
      and {count(list.count - list.levels.length)} more; <code>moorfall topics tree</code> lists all
    </td>
  </tr>
{/if}
