<script lang="ts">
  import { router } from 'svelte-spa-router';

  import { api, reasonOf, type Journey } from '$api/client';
  import { plural } from '$lib/format';
  import Panel from '$ui/panel.svelte';
  import RecipientTable from './recipient-table.svelte';
  import StepLine from '$ui/step-line.svelte';
  import { became } from '$ui/became';
  import { keptBack } from '$ui/owners';

  let identity = $state('administrator');
  let topic = $state(new URLSearchParams(router.querystring).get('topic') ?? '');
  let payload = $state('');
  let qos = $state(1);
  let retain = $state(false);
  let journey = $state.raw<Journey>();
  let trouble = $state('');

  async function ask(event?: SubmitEvent) {
    event?.preventDefault();
    try {
      const body = { identity, topic, payload, qos, retain };
      const { data, error } = await api.POST('/api/v1/journey', { body });
      journey = data;
      trouble = data ? '' : reasonOf(error);
    } catch {
      trouble = reasonOf(undefined);
    }
  }
</script>

<Panel title="Preview" note="shows what would happen now; nothing is published">
  <form onsubmit={ask} class="flex flex-wrap items-center gap-2 px-5 pb-3 text-sm">
    <input class="w-32 field" aria-label="Identity" placeholder="identity" required bind:value={identity} />
    <span>publishes</span>
    <input
      class="field min-w-40 flex-1 font-mono text-sm"
      aria-label="Payload"
      placeholder="payload"
      bind:value={payload}
    />
    <span>to</span>
    <input
      class="field min-w-80 flex-2 font-mono text-sm"
      aria-label="Topic"
      placeholder="topic"
      required
      bind:value={topic}
    />
    <label>QoS <input class="w-12 field" type="number" min="0" max="2" bind:value={qos} /></label>
    <label class="flex items-center gap-1"><input type="checkbox" bind:checked={retain} /> Retain</label>
    <button class="main-button">Preview</button>
  </form>
</Panel>
{#if trouble}
  <p class="text-sm text-wrong" role="alert">{trouble}</p>
{:else if journey}
  <Panel title={journey.accepted ? 'Accepted' : 'Refused'}>
    <ol class="px-5 pb-3 text-sm">
      <StepLine good={journey.access.allowed} name="Access" words={journey.access.explanation} />
      <StepLine good={!journey.plan.refused} name="Plan" words={journey.plan.explanation} />
      {#if journey.owned?.not_owner}<StepLine
          good={false}
          name="Owner"
          words={keptBack(journey.owned.not_owner)}
        />{:else if journey.owned}<StepLine
          good
          name="Owner"
          words={journey.owned.owner
            ? `The client owns the topic, or would take it from ${journey.owned.owner.client_id}.`
            : 'Nobody owns the topic; the client would.'}
        />{/if}
      {#if journey.retained}<StepLine good name="Retained" words={journey.retained} />{/if}
      {#each journey.makes as made (`${made.derived} ${made.topic}`)}
        <StepLine
          good={made.outcome !== 'failed'}
          name="Derived"
          words={`${made.topic}, by ${made.derived}: ${became(made, Date.now())}`}
        />
      {/each}
    </ol>
  </Panel>
  <Panel title="Recipients" note={plural(journey.total, 'session')} fills>
    <div class="min-h-0 flex-1 overflow-y-auto">
      <RecipientTable
        recipients={journey.recipients}
        nobody={!journey.accepted
          ? 'No recipients: the broker refuses the message.'
          : journey.owned?.not_owner
            ? 'No recipients: another client owns the topic.'
            : 'No subscribers.'}
      />
    </div>
  </Panel>
{/if}
