<script lang="ts">
  import type { AlertView } from '$api/client';
  import { count, moment, plural, span } from '$lib/format';
  import { valueOf } from './alerts';
  import { RANGES } from './history';
  import { AlertTrial } from './trial.svelte';

  interface Props {
    /** It is made anew for another alert. */
    alert: AlertView;
  }

  const { alert }: Props = $props();
  // svelte-ignore state_referenced_locally
  const trial = new AlertTrial(alert);
  const found = $derived(trial.found);
  const range = $derived(RANGES.find(({ minutes }) => minutes === trial.minutes)?.name ?? '');
  const past = $derived.by(() => {
    if (!found) return '';
    if (found.step_seconds === null || found.step_seconds === undefined) {
      return 'No history is kept of what it watches: only what is there now can be tried.';
    }
    if (found.measured_seconds === 0) return `Nothing was measured in the last ${range}.`;
    const times = found.raised === 1 ? 'once' : `${count(found.raised)} times`;
    const known = `values are known for ${span(found.measured_seconds)} of it, as means of ${span(found.step_seconds)}`;
    return `It would have been raised ${times} in the last ${range}; ${known}.`;
  });
</script>

<form
  class="flex flex-wrap items-center gap-x-3 gap-y-1 text-sm"
  data-trial
  onsubmit={(event) => {
    event.preventDefault();
    void trial.run();
  }}
>
  <span class="font-medium">Try a band:</span>
  {#if !alert.silence}
    <label class="text-quiet"
      >low <input type="number" step="any" class="w-20 field" bind:value={trial.low} /></label
    >
  {/if}
  <label class="text-quiet">
    {alert.silence ? 'longest silence, s' : 'high'}
    <input type="number" step="any" class="w-20 field" bind:value={trial.high} />
  </label>
  {#if !alert.silence}
    <label class="text-quiet">
      out for, s <input type="number" min="0" class="w-16 field" bind:value={trial.outFor} />
    </label>
    <label class="text-quiet">
      back for, s <input type="number" min="0" class="w-16 field" bind:value={trial.backFor} />
    </label>
    <label class="text-quiet">
      over the last
      <select class="field" bind:value={trial.minutes}>
        {#each RANGES as { minutes, name } (minutes)}<option value={minutes}>{name}</option>{/each}
      </select>
    </label>
  {/if}
  <button type="submit" class="plain-button" disabled={trial.looks}>Try</button>
</form>
{#if trial.trouble}<p class="text-sm text-wrong" role="alert">{trial.trouble}</p>{/if}
{#if found}
  <div class="text-sm" data-tried>
    <p>{past}</p>
    {#if found.spells.length > 0}
      <table class="mt-1">
        <thead class="text-left text-xs text-quiet">
          <tr>
            <th scope="col" class="py-0.5 pr-4 font-medium">Out since</th>
            <th scope="col" class="pr-4 font-medium">Raised</th>
            <th scope="col" class="pr-4 font-medium">Cleared</th>
            <th scope="col" class="text-right font-medium">Worst</th>
          </tr>
        </thead>
        <tbody>
          {#each found.spells.slice(0, 10) as spell (spell.raised_at)}
            <tr>
              <td class="pr-4">{moment(spell.out_since)}</td>
              <td class="pr-4">{moment(spell.raised_at)}</td>
              <td class="pr-4">{spell.cleared_at ? moment(spell.cleared_at) : 'still out'}</td>
              <td class="text-right"
                >{valueOf(spell.worst, found.silence)}{spell.flapping ? ', flaps' : ''}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
      {#if found.raised > 10}<p class="text-quiet">{count(found.raised - 10)} before these</p>{/if}
    {/if}
    {#if found.known_now > 0}
      {@const out = found.now.filter((one) => one.out).slice(0, 10)}
      <p>
        Now {count(found.out_now)} of {plural(found.known_now, 'value')} would be out{out.length ? ':' : '.'}
      </p>
      <ul>
        {#each out as one (one.subject)}
          <li>
            <span class="font-medium wrap-anywhere">{one.subject}</span>
            {valueOf(one.value, found.silence)}
          </li>
        {/each}
      </ul>
    {/if}
  </div>
{/if}
