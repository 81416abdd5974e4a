<script lang="ts">
  import Router from 'svelte-spa-router';
  import { wrap } from 'svelte-spa-router/wrap';

  import SignIn from '$lib/components/sign-in.svelte';
  import SideBar from '$lib/components/side-bar.svelte';
  import TopBar from '$lib/components/top-bar.svelte';
  import { Desk } from '$lib/state/desk.svelte';
  import { ConsoleState } from '$lib/state/console.svelte';
  import { setShell } from '$lib/state/context';
  import { Retained } from '$lib/state/retained.svelte';
  import { Theme } from '$lib/state/theme.svelte';

  const service = new ConsoleState();
  const theme = new Theme();
  setShell({ service, theme, retained: new Retained(), desk: new Desk() });
  // A page is loaded when it is opened for the first time.
  const overview = wrap({ asyncComponent: () => import('$lib/pages/overview-page.svelte') });
  const routes = {
    '/': overview,
    '/topics': wrap({ asyncComponent: () => import('$lib/pages/topics-page.svelte') }),
    '/retained': wrap({ asyncComponent: () => import('$lib/pages/retained-page.svelte') }),
    '/topic': wrap({ asyncComponent: () => import('$lib/pages/topic-page.svelte') }),
    '/journey': wrap({ asyncComponent: () => import('$lib/pages/journey-page.svelte') }),
    '/desk': wrap({ asyncComponent: () => import('$lib/pages/desk-page.svelte') }),
    '/first-connection': wrap({ asyncComponent: () => import('$lib/pages/connect-page.svelte') }),
    '/access': wrap({ asyncComponent: () => import('$lib/pages/access-page.svelte') }),
    '/identities': wrap({ asyncComponent: () => import('$lib/pages/identities-page.svelte') }),
    '/design': wrap({ asyncComponent: () => import('$lib/pages/design-page.svelte') }),
    '/people': wrap({ asyncComponent: () => import('$lib/pages/people-page.svelte') }),
    '/audit': wrap({ asyncComponent: () => import('$lib/pages/audit-page.svelte') }),
    '*': overview,
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
