<script lang="ts">
  import Router from 'svelte-spa-router';
  import { wrap } from 'svelte-spa-router/wrap';

  import SignIn from '$shell/sign-in.svelte';
  import SideBar from '$shell/side-bar.svelte';
  import TopBar from '$shell/top-bar.svelte';
  import { ConsoleState } from '$shell/console.svelte';
  import { setShell } from '$shell/context';
  import { Theme } from '$shell/theme.svelte';

  const service = new ConsoleState();
  const theme = new Theme();
  setShell({ service, theme });
  // A page is loaded when it is opened for the first time.
  const overview = wrap({ asyncComponent: () => import('$watch/overview-page.svelte') });
  const routes = {
    '/': overview,
    '/sessions': wrap({ asyncComponent: () => import('$watch/sessions-page.svelte') }),
    '/topics': wrap({ asyncComponent: () => import('$watch/topics-page.svelte') }),
    '/retained': wrap({ asyncComponent: () => import('$watch/retained-page.svelte') }),
    '/topic': wrap({ asyncComponent: () => import('$watch/topic-page.svelte') }),
    '/journey': wrap({ asyncComponent: () => import('$watch/journey-page.svelte') }),
    '/alerts': wrap({ asyncComponent: () => import('$watch/alerts-page.svelte') }),
    '/ladder': wrap({ asyncComponent: () => import('$watch/ladder-page.svelte') }),
    '/events': wrap({ asyncComponent: () => import('$watch/events-page.svelte') }),
    '/desk': wrap({ asyncComponent: () => import('$work/desk-page.svelte') }),
    '/first-connection': wrap({ asyncComponent: () => import('$work/first-connection-page.svelte') }),
    '/access': wrap({ asyncComponent: () => import('$design/access-page.svelte') }),
    '/identities': wrap({ asyncComponent: () => import('$design/identities-page.svelte') }),
    '/design': wrap({ asyncComponent: () => import('$design/design-page.svelte') }),
    '/bridges': wrap({ asyncComponent: () => import('$links/bridges-page.svelte') }),
    '/derived': wrap({ asyncComponent: () => import('$links/derived-page.svelte') }),
    '/people': wrap({ asyncComponent: () => import('$run/people-page.svelte') }),
    '/audit': wrap({ asyncComponent: () => import('$run/audit-page.svelte') }),
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
