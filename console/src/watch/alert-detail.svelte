<script lang="ts">
  import type { AlertView } from '$api/client';
  import { count, moment, plural, span } from '$lib/format';
  import AlertTrial from './alert-trial.svelte';
  import { since, valueOf } from './alerts';
  import type { Alerts } from './alerts.svelte';

  interface Props {
    alert: AlertView;
    alerts: Alerts;
    now: number;
    canOperate: boolean;
  }

  const { alert, alerts, now, canOperate }: Props = $props();
  const times = [
    { seconds: 1_800, words: '30 min' },
    { seconds: 7_200, words: '2 h' },
    { seconds: 28_800, words: '8 h' },
    { seconds: 86_400, words: '1 day' },
  ];
  const conditions = $derived(
    [
      alert.out_for_seconds > 0 && `out for ${span(alert.out_for_seconds)} before it is raised`,
      alert.back_for_seconds > 0 && `back for ${span(alert.back_for_seconds)} before it is cleared`,
    ].filter((words) => words),
  );
  const oddities = $derived(
    [
      alert.without_number > 0 &&
        `${plural(alert.without_number, 'message')} had no number where it should stand`,
      alert.unwatched > 0 && `${plural(alert.unwatched, 'message')} could not be watched: there are too many`,
    ].filter((words) => words),
  );
  let time = $state(1_800);
</script>

<div class="grid grid-cols-[1fr_auto] gap-x-8 gap-y-2">
  <div>
    {#if alert.purpose}<p>{alert.purpose}.</p>{/if}
    {#if alert.text}<p class="font-medium">{alert.text}</p>{/if}
    <p class="text-quiet">
      Tells {alert.tell.length ? alert.tell.join(', ') : 'nobody'}{conditions.length
        ? `; must be ${conditions.join(', and ')}`
        : ''}.
    </p>
    {#each oddities as words (words)}<p class="text-wrong">{words}.</p>{/each}
  </div>
  {#if canOperate}
    <div class="flex items-start gap-2 text-sm">
      {#if alert.quiet}
        <span class="py-0.5 text-quiet">quiet until {moment(alert.quiet.until)}, by {alert.quiet.by}</span>
        <button type="button" class="plain-button" onclick={() => alerts.quiet(alert.name, 0)}
          >Tell again</button
        >
      {:else}
        <select class="field" aria-label="How long" bind:value={time}>
          {#each times as { seconds, words } (seconds)}<option value={seconds}>{words}</option>{/each}
        </select>
        <button type="button" class="plain-button" onclick={() => alerts.quiet(alert.name, time)}
          >Quiet</button
        >
      {/if}
      <button
        type="button"
        class="plain-button"
        disabled={alert.tell.length === 0}
        onclick={() => alerts.test(alert.name)}
      >
        Send test
      </button>
    </div>
  {/if}
  {#if alert.standings.length > 0}
    <table class="col-span-2 w-full">
      <thead class="text-left text-xs text-quiet">
        <tr>
          <th scope="col" class="py-1 font-medium">Subject</th>
          <th scope="col" class="px-3 font-medium">State</th>
          <th scope="col" class="px-3 text-right font-medium">For</th>
          <th scope="col" class="px-3 text-right font-medium">{alert.silence ? 'Silent for' : 'Value'}</th>
          <th scope="col" class="px-3 text-right font-medium">{alert.silence ? 'At most' : 'Worst'}</th>
          <th scope="col" class="pl-3 font-medium">Told</th>
        </tr>
      </thead>
      <tbody>
        {#each alert.standings as standing (standing.subject)}
          <tr data-subject={standing.subject} data-phase={standing.phase}>
            <td class="py-0.5 font-medium wrap-anywhere">{standing.subject}</td>
            <td class="px-3 {standing.phase === 'raised' ? 'font-bold text-wrong' : 'text-quiet'}">
              {standing.phase}{standing.flapping ? ', flaps' : ''}
            </td>
            <td class="px-3 text-right">{since(standing.since, now)}</td>
            <td class="px-3 text-right">{valueOf(standing.value, alert.silence)}</td>
            <td class="px-3 text-right">{valueOf(standing.worst, alert.silence)}</td>
            <td class="pl-3 text-quiet">{standing.told ? 'that it is out' : ''}</td>
          </tr>
        {/each}
      </tbody>
    </table>
    {#if alert.subjects > alert.standings.length}
      <p class="col-span-2 text-quiet">{count(alert.subjects - alert.standings.length)} more</p>
    {/if}
  {:else}
    <p class="col-span-2 text-quiet">Nothing is known yet of what it watches.</p>
  {/if}
  <div class="col-span-2 mt-1 border-t border-line/60 pt-2">
    {#key alert.name}<AlertTrial {alert} />{/key}
  </div>
</div>
