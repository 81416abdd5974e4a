<script lang="ts">
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import CircleX from '@lucide/svelte/icons/circle-x';

  import { plural } from '$lib/format';
  import type { Check } from '$api/client';

  interface Props {
    check: Check;
    /** Moves the editor to a place. */
    ongo: (file: string, line: number) => void;
  }

  const { check, ongo }: Props = $props();
  const failed = $derived(check.proofs.filter((proof) => !proof.holds));
  const held = $derived(check.proofs.length - failed.length);
</script>

<div data-ready={check.ready}>
  <p class="flex items-center gap-2 {check.ready ? 'text-moss' : 'text-wrong'}">
    {#if check.ready}<CircleCheck class="size-4" /> Ready to apply:{:else}<CircleX class="size-4" /> Not ready to
      apply:{/if}
    {held} of {plural(check.proofs.length, 'proof')} hold.
  </p>
  <ul>
    {#each check.findings as finding, index (index)}
      <li class="mt-2">
        <button class="text-left hover:underline" onclick={() => ongo(finding.file, finding.line)}>
          <b class={finding.severity === 'error' ? 'text-wrong' : 'text-rain'}>{finding.severity}</b>
          <span class="text-quiet">{finding.file}:{finding.line}</span>
          {finding.message}{finding.remedy ? `; ${finding.remedy}` : ''}
        </button>
      </li>
    {/each}
    {#each failed as proof (proof.name)}
      <li class="mt-2">
        <button class="text-left hover:underline" onclick={() => ongo(proof.file, proof.line)}>
          <b class="text-wrong">proof fails</b>
          <span class="text-quiet">{proof.file}:{proof.line}</span>
          {proof.name}: {proof.explanation}
        </button>
      </li>
    {/each}
  </ul>
</div>
