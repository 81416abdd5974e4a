<script lang="ts">
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import CircleX from '@lucide/svelte/icons/circle-x';
  import { router } from 'svelte-spa-router';

  import { api, reasonOf, type Journey } from '$lib/api/client';
  import Panel from '$lib/components/panel.svelte';
  import { count } from '$lib/format';

  let identity = $state('administrator');
  let topic = $state(new URLSearchParams(router.querystring).get('topic') ?? '');
  let payload = $state('');
  let qos = $state(1);
  let retain = $state(false);
  let journey = $state.raw<Journey>();
  let trouble = $state('');
  const field = 'rounded border border-line bg-page px-2 py-1';
  const colours = { sent: 'text-moss', queued: 'text-rain', withheld: 'text-wrong' };

  async function ask(event?: SubmitEvent) {
    event?.preventDefault();
    const { data, error } = await api.POST('/api/v1/journey', {
      body: { identity, topic, payload, qos, retain },
    });
    journey = data;
    trouble = data ? '' : reasonOf(error);
  }

  /** What the plan says, in a sentence. */
  function planned({ plan }: Journey): string {
    if (!plan.has_plan) return 'Nothing is planned.';
    if (plan.path === '') return `${plan.breach}.`;
    if (plan.breach === '') return `It is as planned for ${plan.path}.`;
    return `It breaks the plan of ${plan.path}: ${plan.breach}; it is ${plan.refused ? 'refused' : 'only counted'}.`;
  }
</script>

{#snippet step(good: boolean, name: string, words: string)}
  <li class="flex items-start gap-2 py-1" data-step={name} data-good={good}>
    {#if good}<CircleCheck class="mt-0.5 size-4 shrink-0 text-moss" />{:else}<CircleX
        class="mt-0.5 size-4 shrink-0 text-wrong"
      />{/if}
    <b class="w-20 shrink-0">{name}</b>
    <span class="break-words">{words}</span>
  </li>
{/snippet}

<main class="flex min-h-0 flex-1 flex-col gap-4 px-6 py-4">
  <Panel title="A message" note="nothing is sent: this says what would happen now, and why">
    <form onsubmit={ask} class="flex flex-wrap items-center gap-2 px-5 pb-3 text-sm">
      <input
        class="{field} w-32"
        aria-label="Identity"
        placeholder="identity"
        required
        bind:value={identity}
      />
      <span>publishes</span>
      <input
        class="{field} min-w-40 flex-1 font-mono"
        aria-label="Payload"
        placeholder="payload"
        bind:value={payload}
      />
      <span>to</span>
      <input
        class="{field} min-w-80 flex-2 font-mono"
        aria-label="Topic"
        placeholder="topic"
        required
        bind:value={topic}
      />
      <label>QoS <input class="{field} w-12" type="number" min="0" max="2" bind:value={qos} /></label>
      <label class="flex items-center gap-1"><input type="checkbox" bind:checked={retain} /> retained</label>
      <button class="rounded bg-moss px-3 py-1 font-medium text-panel">Follow it</button>
    </form>
  </Panel>
  {#if trouble}
    <p class="text-sm text-wrong" role="alert">{trouble}</p>
  {:else if journey}
    <Panel title={journey.accepted ? 'It is accepted' : 'It is refused'}>
      <ol class="px-5 pb-3 text-sm">
        {@render step(journey.access.allowed, 'Access', journey.access.words)}
        {@render step(!journey.plan.refused, 'Plan', planned(journey))}
        {#if journey.retained}{@render step(true, 'Retained', journey.retained)}{/if}
      </ol>
    </Panel>
    <Panel
      title="Who receives it"
      note="{count(journey.total)} session{journey.total === 1 ? '' : 's'}"
      fills
    >
      <div class="min-h-0 flex-1 overflow-y-auto">
        <table class="w-full text-sm" data-recipients>
          <thead class="sticky top-0 bg-panel text-left text-quiet">
            <tr class="border-y border-line">
              {#each ['Client', 'Identity', 'QoS', 'Outcome', 'Why'] as heading (heading)}
                <th scope="col" class="px-3 py-1.5 font-medium first:pl-5">{heading}</th>
              {/each}
            </tr>
          </thead>
          <tbody>
            {#each journey.recipients as recipient (`${recipient.client_id} ${recipient.shared}`)}
              <tr class="border-b border-line/60">
                <td class="py-1 pr-3 pl-5 font-medium whitespace-nowrap">{recipient.client_id}</td>
                <td class="px-3 whitespace-nowrap">{recipient.identity}</td>
                <td class="px-3">{recipient.qos}</td>
                <td class="px-3 font-bold whitespace-nowrap {colours[recipient.outcome]}">
                  {recipient.outcome}{recipient.shared ? `, ${recipient.shared}` : ''}
                </td>
                <td class="px-3">{recipient.words}</td>
              </tr>
            {:else}
              <tr>
                <td colspan="5" class="px-5 py-6 text-center text-quiet">
                  {journey.accepted ? 'Nobody subscribes to it.' : 'Nobody: the broker refuses it.'}
                </td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    </Panel>
  {/if}
</main>
