<script lang="ts">
  import type { AccessState } from './access.svelte';

  interface Props {
    access: AccessState;
  }

  const { access }: Props = $props();

  function ask(event: SubmitEvent) {
    event.preventDefault();
    void access.explain();
  }
</script>

<form onsubmit={ask} class="flex flex-wrap items-center gap-2 px-5 pb-3 text-sm">
  <span>Can</span>
  <input
    class="w-40 field"
    aria-label="Identity"
    placeholder="identity"
    required
    bind:value={access.identity}
  />
  <select class="field" aria-label="Act" bind:value={access.act}>
    <option value="publish">publish to</option>
    <option value="subscribe">subscribe to</option>
  </select>
  <input
    class="field min-w-60 flex-1 font-mono text-sm"
    aria-label="Topic"
    placeholder="topic or filter"
    required
    bind:value={access.topic}
  />
  {#if access.act === 'publish'}
    <label>QoS <input class="w-12 field" type="number" min="0" max="2" bind:value={access.qos} /></label>
    <label class="flex items-center gap-1"
      ><input type="checkbox" bind:checked={access.retain} /> Retain</label
    >
  {/if}
  <button class="main-button">Explain</button>
</form>
{#if access.trouble}
  <p class="px-5 pb-3 text-sm text-wrong" role="alert">{access.trouble}</p>
{:else if access.answer}
  {@const answer = access.answer}
  <div class="px-5 pb-3 text-sm" data-verdict={answer.allowed ? 'allowed' : 'refused'}>
    <p>
      <b class={answer.allowed ? 'text-moss' : 'text-wrong'}>{answer.allowed ? 'Allowed.' : 'Not allowed.'}</b
      >
      {answer.explanation}
    </p>
    {#if answer.cohorts.length > 0}<p class="text-quiet">Cohorts: {answer.cohorts.join(', ')}</p>{/if}
    <table class="mt-2 w-full text-xs">
      <tbody>
        {#each answer.rules as rule (rule.rule)}
          <tr class="border-t border-line/60 {rule.decides ? 'font-bold' : rule.applies ? '' : 'text-quiet'}">
            <td class="py-0.5 pr-3">{rule.rule}</td>
            <td class="pr-3">{rule.verdict}</td>
            <td>{rule.decides ? 'decides' : rule.applies ? 'applies' : rule.explanation}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
