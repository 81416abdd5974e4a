<script lang="ts">
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import LoaderCircle from '@lucide/svelte/icons/loader-circle';
  import { untrack } from 'svelte';
  import { router } from 'svelte-spa-router';

  import type { AccessAnswer } from '$api/client';
  import Panel from '$ui/panel.svelte';
  import StepLine from '$ui/step-line.svelte';
  import { moment } from '$lib/format';
  import { SECRET } from './programs';
  import { Connect } from './first-connection.svelte';

  const connect = new Connect();
  connect.identity = new URLSearchParams(router.querystring).get('identity') ?? '';
  let language = $state('Python');
  let copied = $state(false);
  const program = $derived(connect.programs.find((one) => one.name === language) ?? connect.programs[0]);

  $effect(() => {
    untrack(() => void connect.look());
    return connect.poll.start();
  });

  // What it may is asked anew whenever something of the question changes.
  $effect(() => {
    void connect.identity;
    void connect.usedId;
    void connect.topic;
    void connect.filter;
    void connect.ask();
  });

  async function copy() {
    if (!program) return;
    await navigator.clipboard.writeText(program.text);
    copied = true;
    setTimeout(() => (copied = false), 2_000);
  }
</script>

{#snippet verdict(answer: AccessAnswer | undefined, name: string)}
  {#if answer}<ol class="text-xs">
      <StepLine good={answer.allowed} {name} words={answer.explanation} />
    </ol>{/if}
{/snippet}

<main class="grid min-h-0 flex-1 grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-4 px-6 py-4">
  <div class="flex min-h-0 flex-col gap-4">
    <Panel title="Client" fills>
      <div class="flex min-h-0 flex-col gap-2 overflow-y-auto px-5 pb-4 text-sm">
        <label>
          <span class="text-quiet">Identity</span>
          <input
            class="w-full field"
            list="identities"
            aria-label="Identity"
            bind:value={connect.identity}
            onchange={() => connect.choose()}
          />
        </label>
        <datalist id="identities">
          {#each connect.identities as name (name)}<option value={name}></option>{/each}
        </datalist>
        {#if connect.identity !== '' && connect.identities.length > 0 && !connect.identities.includes(connect.identity)}
          <p class="text-xs text-rain">
            No such identity. <a class="underline" href="#/identities">Create it</a> first.
          </p>
        {/if}
        <label>
          <span class="text-quiet">Client identifier</span>
          <input
            class="w-full field"
            aria-label="Client identifier"
            placeholder={connect.usedId || 'same as the identity'}
            disabled={connect.isTied}
            bind:value={connect.clientId}
          />
        </label>
        {#if connect.isTied}<p class="text-xs text-quiet">
            This identity can only use the client identifier {connect.usedId}.
          </p>{/if}
        <label>
          <span class="text-quiet">Listener</span>
          <select
            class="w-full field"
            aria-label="Listener"
            value={connect.place?.listener.name}
            onchange={(event) => (connect.listener = event.currentTarget.value)}
          >
            {#each connect.places as { listener } (listener.name)}
              <option value={listener.name}>{listener.name}: {listener.url}</option>
            {/each}
          </select>
        </label>
        <label>
          <span class="text-quiet">Publishes to</span>
          <input
            class="w-full field font-mono text-xs"
            aria-label="Topic"
            placeholder="nothing"
            bind:value={connect.topic}
          />
        </label>
        {@render verdict(connect.mayPublish, 'Publish')}
        {#if connect.topic !== ''}
          <label>
            <span class="text-quiet">Payload</span>
            <input class="w-full field font-mono text-xs" aria-label="Payload" bind:value={connect.payload} />
          </label>
        {/if}
        <label>
          <span class="text-quiet">Subscribes to</span>
          <input
            class="w-full field font-mono text-xs"
            aria-label="Topic filter"
            placeholder="nothing"
            bind:value={connect.filter}
          />
        </label>
        {@render verdict(connect.mayListen, 'Subscribe')}
      </div>
    </Panel>
    <Panel title="Connection status" note={connect.trouble}>
      <div class="flex items-start gap-2 px-5 pb-4 text-sm" data-arrival={connect.arrived ? 'yes' : 'no'}>
        {#if connect.identity === ''}
          <p class="text-quiet">Select an identity.</p>
        {:else if connect.arrived}
          {@const one = connect.arrived}
          <CircleCheck class="mt-0.5 size-5 shrink-0 text-moss" />
          <p>
            <b>{one.client_id} connected</b> at {moment(one.since)} from {one.address} over {one.listener} (MQTT
            {one.version}{one.signed_in_by ? `, ${one.signed_in_by}` : ''}).
            {#if one.last_refusal}<span class="block text-wrong">{one.last_refusal}</span>{/if}
          </p>
        {:else}
          <LoaderCircle class="mt-0.5 size-5 shrink-0 animate-spin text-quiet" />
          <p>
            Waiting for {connect.identity} to connect…
            {#each connect.connected as one (one.client_id)}
              <span class="block text-quiet"
                >{one.client_id} has been connected since {moment(one.since)}.</span
              >
            {/each}
          </p>
        {/if}
      </div>
    </Panel>
  </div>
  <div class="flex min-h-0 flex-col gap-4">
    <Panel title="Connection details">
      {#if connect.place}
        {@const place = connect.place}
        <dl
          class="grid grid-cols-[8rem_minmax(0,1fr)] gap-y-0.5 px-5 pb-3 text-sm [&_dt]:text-quiet"
          data-details
        >
          <dt>Address</dt>
          <dd class="font-mono text-xs">
            {place.scheme}://{place.host.includes(':')
              ? `[${place.host}]`
              : place.host}:{place.port}{place.scheme.startsWith('ws') ? '/mqtt' : ''}
          </dd>
          <dt>TLS</dt>
          <dd>{place.scheme.endsWith('s') ? 'yes; trust the certificate authority of the broker' : 'no'}</dd>
          <dt>User name</dt>
          <dd class="font-mono text-xs">{connect.identity || '…'}</dd>
          <dt>Password</dt>
          <dd class="text-quiet">
            the password of the identity, or one of its tokens; it can’t be shown here
          </dd>
          <dt>Client identifier</dt>
          <dd class="font-mono text-xs">{connect.usedId || '…'}</dd>
        </dl>
      {/if}
    </Panel>
    <Panel title="Sample program" note={program ? `${program.file}: ${program.run}` : ''} fills>
      {#snippet tools()}
        <select class="field text-sm" aria-label="Language" bind:value={language}>
          {#each connect.programs as one (one.name)}<option>{one.name}</option>{/each}
        </select>
        <button class="plain-button text-sm" disabled={!program} onclick={copy}
          >{copied ? 'Copied' : 'Copy'}</button
        >
      {/snippet}
      {#if program}
        <!-- svelte-ignore a11y_no_noninteractive_tabindex (who has no mouse scrolls it, too) -->
        <pre
          tabindex="0"
          role="region"
          aria-label="Sample program"
          class="min-h-0 flex-1 overflow-auto border-t border-line px-5 py-2 font-mono text-xs"
          data-program={program.name}>{program.text}</pre>
        {#if program.text.includes(SECRET)}
          <p class="border-t border-line px-5 py-1.5 text-xs text-quiet">
            Replace {SECRET} with the password; in production, read it from a protected file.
          </p>
        {/if}
      {:else}
        <p class="px-5 pb-3 text-sm text-quiet">
          {connect.identity === ''
            ? 'Select an identity.'
            : 'Sample programs use TCP or TLS. Select such a listener.'}
        </p>
      {/if}
    </Panel>
  </div>
</main>
