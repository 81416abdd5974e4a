<script lang="ts">
  import Overview from '$lib/components/overview.svelte';
  import SignIn from '$lib/components/sign-in.svelte';
  import TopBar from '$lib/components/top-bar.svelte';
  import { ConsoleState } from '$lib/state/console.svelte';
  import { Theme } from '$lib/state/theme.svelte';

  const service = new ConsoleState();
  const theme = new Theme();

  $effect(() => {
    void service.watch();
    return () => service.stop();
  });
</script>

<div class="flex h-dvh min-h-150 flex-col">
  <TopBar {service} {theme} />
  {#if service.phase === 'signed in'}
    <Overview {service} {theme} />
  {:else if service.phase === 'signed out'}
    <SignIn onsignin={(secret) => service.signIn(secret)} />
  {:else if service.trouble}
    <p class="m-auto text-quiet" role="alert">{service.trouble}</p>
  {/if}
</div>
