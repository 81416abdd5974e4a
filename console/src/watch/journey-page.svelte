<script lang="ts">
  import { router } from 'svelte-spa-router';

  import JourneyRecorded from './journey-recorded.svelte';
  import JourneyTry from './journey-preview.svelte';
  import { shell } from '$shell/context';

  const { service } = shell();
  const mayRecord = $derived(service.me !== undefined && service.me.role !== 'watch');
  const recorded = $derived(new URLSearchParams(router.querystring).has('recorded'));
  const tabs = [
    { name: 'Preview', to: '#/journey', recorded: false },
    { name: 'Recordings', to: '#/journey?recorded', recorded: true },
  ];
</script>

<main class="flex min-h-0 flex-1 flex-col gap-4 px-6 py-4">
  <nav aria-label="Journeys" class="flex gap-1 text-sm">
    {#each tabs as tab (tab.name)}
      <a
        href={tab.to}
        aria-current={recorded === tab.recorded ? 'page' : undefined}
        class="rounded px-3 py-1 {recorded === tab.recorded
          ? 'bg-panel font-semibold'
          : 'text-quiet hover:text-ink'}"
      >
        {tab.name}
      </a>
    {/each}
  </nav>
  {#if recorded}<JourneyRecorded {mayRecord} />{:else}<JourneyTry />{/if}
</main>
