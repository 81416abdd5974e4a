<script lang="ts">
  import Router from 'svelte-spa-router';

  import SignIn from '$lib/components/sign-in.svelte';
  import TopBar from '$lib/components/top-bar.svelte';
  import AccessPage from '$lib/pages/access-page.svelte';
  import AuditPage from '$lib/pages/audit-page.svelte';
  import DesignPage from '$lib/pages/design-page.svelte';
  import OverviewPage from '$lib/pages/overview-page.svelte';
  import TopicsPage from '$lib/pages/topics-page.svelte';
  import { ConsoleState } from '$lib/state/console.svelte';
  import { setShell } from '$lib/state/context';
  import { Theme } from '$lib/state/theme.svelte';

  const service = new ConsoleState();
  const theme = new Theme();
  setShell({ service, theme });
  const routes = {
    '/': OverviewPage,
    '/topics': TopicsPage,
    '/access': AccessPage,
    '/design': DesignPage,
    '/audit': AuditPage,
    '*': OverviewPage,
  };

  $effect(() => {
    void service.watch();
    return () => service.stop();
  });
</script>

<div class="flex h-dvh min-h-150 flex-col">
  <TopBar {service} {theme} />
  {#if service.phase === 'signed in'}
    <Router {routes} />
  {:else if service.phase === 'signed out'}
    <SignIn onsignin={(credentials) => service.signIn(credentials)} />
  {:else if service.trouble}
    <p class="m-auto text-quiet" role="alert">{service.trouble}</p>
  {/if}
</div>
