<script lang="ts">
  interface Props {
    /** Tries a secret; gives why it was refused, or nothing. */
    onsignin: (secret: string) => Promise<string>;
  }

  const { onsignin }: Props = $props();
  let secret = $state('');
  let refusal = $state('');
  let busy = $state(false);

  async function submit(event: SubmitEvent) {
    event.preventDefault();
    busy = true;
    refusal = await onsignin(secret);
    busy = false;
  }
</script>

<main class="m-auto w-full max-w-md p-6">
  <form onsubmit={submit} class="rounded-lg border border-line bg-panel p-8 shadow-sm">
    <h2 class="text-xl font-bold">Sign in</h2>
    <p class="mt-2 text-sm text-quiet">
      The administrator's secret stands in the file
      <code class="text-ink">administrator.secret</code> in the service's data folder.
    </p>
    <!-- Password managers want to know whose secret it is. -->
    <input type="text" autocomplete="username" value="administrator" hidden readonly />
    <label class="mt-6 block text-sm font-medium" for="secret">Secret</label>
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
      {busy ? 'Signing in …' : 'Sign in'}
    </button>
  </form>
</main>
