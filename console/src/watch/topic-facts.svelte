<script lang="ts">
  import { bytes, count, moment, plural, rate, span } from '$lib/format';
  import { ownedBy, strength } from '$ui/owners';
  import type { Topic } from './topic.svelte';
  import TopicText from '$ui/topic-text.svelte';

  interface Props {
    topic: Topic;
  }

  const { topic }: Props = $props();
  const details = $derived(topic.details);
  const about = $derived(details?.about);
  const plan = $derived(details?.plan);
  const heading = 'mt-3 mb-1 font-semibold first:mt-0';
  const here = $derived(encodeURIComponent(topic.name));
</script>

{#if details}
  <div class="min-h-0 flex-1 overflow-y-auto px-5 pb-3 text-sm" data-facts>
    {#if about}
      <dl class="grid grid-cols-[7rem_minmax(0,1fr)] gap-y-0.5 [&_dt]:text-quiet">
        <dt>Last message</dt>
        <dd>{moment(about.last)}, {bytes(about.value_bytes)}</dd>
        <dt>Traffic</dt>
        <dd>{rate(about.rate)} messages/s now, {count(about.messages)} since the service started</dd>
        <dt>Retained message</dt>
        <dd>{about.retained ? 'yes' : 'none'}</dd>
      </dl>
    {:else}
      <p class="text-quiet">No messages have been published since the service started.</p>
    {/if}

    <h3 class={heading}>Publishers</h3>
    {#each topic.publishers as [name, number] (name)}
      <p>
        {name}
        <span class="text-quiet"
          >{number > 0 ? `${count(number)} of these messages` : 'the last message'}</span
        >
      </p>
    {:else}
      <p class="text-quiet">None.</p>
    {/each}

    <h3 class={heading}>Subscribers</h3>
    <ul data-subscribers>
      {#each details.subscribers as one (`${one.client_id} ${one.shared}`)}
        <li>
          {one.client_id}
          <span class="text-quiet">
            QoS {one.qos}, {one.connected ? 'connected' : 'disconnected'}{one.queue > 0
              ? `, ${count(one.queue)} queued`
              : ''}{one.shared ? `, shared subscription ${one.shared}` : ''}
          </span>
          {#each one.conditions as condition (condition)}
            <span class="block pl-4 text-quiet">only where {condition}</span>
          {/each}
        </li>
      {:else}
        <li class="text-quiet">None.</li>
      {/each}
    </ul>
    {#if details.subscribers.length < details.subscribers_total}
      <p class="text-quiet">and {count(details.subscribers_total - details.subscribers.length)} more</p>
    {/if}
    <p>
      <a class="font-medium text-moss hover:underline" href="#/journey?topic={here}">Preview a message</a>
      <span class="text-quiet">or</span>
      <a class="font-medium text-moss hover:underline" href="#/journey?recorded&topic={here}"
        >record messages</a
      >
    </p>

    {#if details.owned}
      <h3 class={heading}>Owner</h3>
      {#if details.owned.now}
        {@const now = details.owned.now}
        <p data-owner={now.owner.client_id}>
          {now.owner.client_id}
          <span class="text-quiet"
            >{strength(now.owner.strength)}, since {moment(now.since)}{now.unheard
              ? ', not heard since the service started'
              : ''}</span
          >
        </p>
        {#each now.others as one (one.client_id)}
          <p>
            {one.client_id}
            <span class="text-quiet"
              >{strength(one.strength)}, <b class="text-rain">withheld</b>, last message {moment(
                one.heard_at,
              )}</span
            >
          </p>
        {/each}
        {#if now.withheld > 0}<p class="text-quiet">{plural(now.withheld, 'message')} withheld</p>{/if}
      {:else}
        <p class="text-quiet">Nobody publishes to it.</p>
      {/if}
      <p class="text-quiet">{ownedBy(details.owned)}</p>
    {/if}
    {#if details.made_by.length > 0}
      <h3 class={heading}>Made by the broker</h3>
      {#each details.made_by as by (by.derived)}
        <p data-made-by>
          <a class="font-medium text-moss hover:underline" href="#/derived">{by.derived}</a>
          {#if by.quality === 'stale'}<b class="text-wrong">stale</b>{/if}
        </p>
        <ul>
          {#each by.sources as source (source)}
            <li>
              <span class="text-quiet">of</span>
              <a class="hover:underline" href="#/topic?name={encodeURIComponent(source)}"
                ><TopicText topic={source} /></a
              >
            </li>
          {/each}
        </ul>
      {/each}
    {/if}
    {#if details.makes.length > 0}
      <h3 class={heading}>Derived from it</h3>
      <ul>
        {#each details.makes as made (`${made.derived} ${made.topic}`)}
          <li data-makes>
            <a class="hover:underline" href="#/topic?name={encodeURIComponent(made.topic)}"
              ><TopicText topic={made.topic} /></a
            >
            <span class="text-quiet">by {made.derived}</span>
          </li>
        {/each}
      </ul>
    {/if}

    <h3 class={heading}>Plan</h3>
    {#if plan}
      <p><TopicText topic={plan.path} /></p>
      <p>{plan.purpose}</p>
      <p class="text-quiet">
        {plan.payload}{plan.qos === null || plan.qos === undefined ? '' : `, QoS ${plan.qos}`}, retained: {plan.retained}{plan.cadence
          ? `, at least every ${span(plan.cadence)}`
          : ''}
      </p>
    {:else if details.has_plan}
      <p class="font-bold text-rain">Not in the plan.</p>
      {#if about}
        <a class="font-medium text-moss hover:underline" href="#/design?plan={here}">Add to draft</a>
      {/if}
    {:else}
      <p class="text-quiet">The blueprint has no planned topics.</p>
    {/if}

    <h3 class={heading}>Rules</h3>
    <ul data-rules>
      {#each details.rules as rule, index (index)}
        <li class="mb-1">
          <b class={rule.verdict === 'deny' ? 'text-wrong' : 'text-moss'}>{rule.verdict}</b>
          {rule.who} to {rule.publish ? 'publish' : ''}{rule.publish && rule.subscribe
            ? ' and '
            : ''}{rule.subscribe ? 'subscribe' : ''}
          <span class="text-quiet">({rule.rule})</span>
        </li>
      {:else}
        <li class="text-quiet">No rule covers this topic. Only the administrator can use it.</li>
      {/each}
    </ul>
  </div>
{:else}
  <p class="px-5 text-sm text-quiet">{topic.trouble || 'Loading…'}</p>
{/if}
