<script lang="ts">
  import Router from 'svelte-spa-router';

  import SignIn from '$lib/components/sign-in.svelte';
  import SideBar from '$lib/components/side-bar.svelte';
  import TopBar from '$lib/components/top-bar.svelte';
  import AccessPage from '$lib/pages/access-page.svelte';
  import BenchPage from '$lib/pages/bench-page.svelte';
  import AuditPage from '$lib/pages/audit-page.svelte';
  import ConnectPage from '$lib/pages/connect-page.svelte';
  import DesignPage from '$lib/pages/design-page.svelte';
  import IdentitiesPage from '$lib/pages/identities-page.svelte';
  import JourneyPage from '$lib/pages/journey-page.svelte';
  import TopicPage from '$lib/pages/topic-page.svelte';
  import OverviewPage from '$lib/pages/overview-page.svelte';
  import PeoplePage from '$lib/pages/people-page.svelte';
  import RetainedPage from '$lib/pages/retained-page.svelte';
  import TopicsPage from '$lib/pages/topics-page.svelte';
  import { Bench } from '$lib/state/bench.svelte';
  import { ConsoleState } from '$lib/state/console.svelte';
  import { setShell } from '$lib/state/context';
  import { Retained } from '$lib/state/retained.svelte';
  import { Theme } from '$lib/state/theme.svelte';

  const service = new ConsoleState();
  const theme = new Theme();
  setShell({ service, theme, retained: new Retained(), bench: new Bench() });
  const routes = {
    '/': OverviewPage,
    '/topics': TopicsPage,
    '/retained': RetainedPage,
    '/topic': TopicPage,
    '/journey': JourneyPage,
    '/bench': BenchPage,
    '/connect': ConnectPage,
    '/access': AccessPage,
    '/identities': IdentitiesPage,
    '/design': DesignPage,
    '/people': PeoplePage,
    '/audit': AuditPage,
    '*': OverviewPage,
  };

  $effect(() => service.poll.start());
</script>

<div class="flex h-dvh min-h-150 flex-col">
  <TopBar {service} {theme} />
  {#if service.phase === 'signed in'}
    <div class="flex min-h-0 flex-1">
      <SideBar />
      <Router {routes} />
    </div>
  {:else if service.phase === 'signed out'}
    <SignIn refused={service.refusal} onsignin={(credentials) => service.signIn(credentials)} />
  {:else if service.trouble}
    <p class="m-auto text-quiet" role="alert">{service.trouble}</p>
  {/if}
</div>
