<script lang="ts">
  import type { SignIn } from '$api/client';

  interface Props {
    /** Why a sign-in was refused before. */
    refused: string;
    /** Tries to sign in; gives why it was refused, or nothing. */
    onsignin: (credentials: SignIn) => Promise<string>;
  }

  const { refused, onsignin }: Props = $props();
  let name = $state('');
  let secret = $state('');
  let answer = $state<string>();
  const refusal = $derived(answer ?? refused);
  let busy = $state(false);

  async function submit(event: SubmitEvent) {
    event.preventDefault();
    busy = true;
    answer = await onsignin(name ? { name, password: secret } : { secret });
    busy = false;
  }
</script>

<main class="m-auto w-full max-w-md p-6">
  <form onsubmit={submit} class="rounded-lg border border-line bg-panel p-8 shadow-sm">
    <h2 class="text-xl font-bold">Sign in</h2>
    <p class="mt-2 text-sm text-quiet">
      Enter your name and password. To sign in as the administrator, leave the name empty and enter the secret
      from <code class="text-ink">administrator.secret</code> in the data folder.
    </p>
    <label class="mt-6 block text-sm font-medium" for="name">Name</label>
    <input
      id="name"
      type="text"
      autocomplete="username"
      placeholder="administrator"
      bind:value={name}
      class="mt-1 w-full rounded border border-line bg-page px-3 py-2"
    />
    <label class="mt-4 block text-sm font-medium" for="secret">{name ? 'Password' : 'Secret'}</label>
    <input
      id="secret"
      type="password"
      autocomplete="current-password"
      required
      bind:value={secret}
      aria-invalid={refusal !== ''}
      aria-describedby="refusal"
      class="mt-1 w-full rounded border border-line bg-page px-3 py-2"
    />
    <p id="refusal" role="alert" class="mt-2 min-h-5 text-sm text-wrong">{refusal}</p>
    <button
      type="submit"
      disabled={busy}
      class="mt-2 w-full rounded bg-moss px-4 py-2 font-medium text-panel disabled:opacity-60"
    >
      {busy ? 'Signing in…' : 'Sign in'}
    </button>
  </form>
</main>
