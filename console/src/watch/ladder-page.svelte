<script lang="ts">
  import { router } from 'svelte-spa-router';

  import { count, plural } from '$lib/format';
  import { shell } from '$shell/context';
  import NoticeLine from '$ui/notice-line.svelte';
  import Panel from '$ui/panel.svelte';
  import LadderPicture from './ladder-picture.svelte';
  import { Ladders, type Whom } from './ladder.svelte';

  const { service } = shell();
  const ladders = new Ladders();
  const role = $derived(service.me?.role);
  const asked = new URLSearchParams(router.querystring ?? '');
  const times: [number, string][] = [
    [30, '30 s'],
    [120, '2 min'],
    [600, '10 min'],
    [3_600, '1 h'],
  ];
  let whom = $state<Whom>(asked.has('session') ? 'session' : 'identity');
  let name = $state(asked.get('session') ?? asked.get('identity') ?? '');
  let seconds = $state(30);
  let payloads = $state(false);
  const chosen = $derived(ladders.chosen);
  const title = (ladder: { number: number; identity: string; session: string; address: string }) =>
    `${ladder.number}: ${ladder.identity || ladder.session || ladder.address}`;

  $effect(() => (role && role !== 'watch' ? ladders.poll.start() : undefined));

  function begin(event: SubmitEvent) {
    event.preventDefault();
    void ladders.begin(whom, name.trim(), seconds, payloads);
  }
</script>

<main class="flex min-h-0 min-w-0 flex-1 flex-col gap-4 px-6 py-4">
  {#if role === 'watch'}
    <p class="text-quiet">Packets of clients are shown to those who operate the broker.</p>
  {:else}
    <NoticeLine notice={ladders.notice} />
    <Panel
      title="Ladder"
      note={chosen
        ? `${plural(chosen.packets, 'packet')}${chosen.left_out ? `, ${count(chosen.left_out)} too many to keep` : ''}${chosen.running ? '' : ', ended'}`
        : 'the packets of a client, both ways over time'}
      fills
    >
      {#snippet tools()}
        <form class="flex items-center gap-2 text-sm" onsubmit={begin}>
          <select class="field" aria-label="Whose" bind:value={whom}>
            <option value="identity">identity</option>
            <option value="session">client identifier</option>
            <option value="address">address</option>
          </select>
          <input class="w-44 field" aria-label="Name" required bind:value={name} />
          <select class="field" aria-label="For" bind:value={seconds}>
            {#each times as [value, words] (value)}<option {value}>{words}</option>{/each}
          </select>
          {#if role === 'own'}
            <label class="flex items-center gap-1"
              ><input type="checkbox" bind:checked={payloads} /> payloads</label
            >
          {/if}
          <button class="main-button">Begin</button>
        </form>
      {/snippet}
      {#if ladders.all.length > 0}
        <div class="flex items-center gap-2 border-t border-line px-5 py-1.5 text-sm">
          <select
            class="field"
            aria-label="Ladders"
            value={chosen?.number}
            onchange={(event) => ladders.choose(Number(event.currentTarget.value))}
          >
            {#each ladders.all as ladder (ladder.number)}
              <option value={ladder.number}>{title(ladder)}{ladder.running ? ', running' : ''}</option>
            {/each}
          </select>
          {#if chosen?.running}
            <button type="button" class="plain-button" onclick={() => ladders.end(chosen.number)}
              >End now</button
            >
          {/if}
          {#if chosen}
            <a class="plain-button" href="/api/v1/ladders/{chosen.number}/pcapng" download>pcapng</a>
            <a
              class="plain-button"
              href="/api/v1/ladders/{chosen.number}?limit=5000"
              download="ladder-{chosen.number}.json"
            >
              JSON
            </a>
          {/if}
        </div>
        <LadderPicture packets={ladders.packets} />
      {:else}
        <p class="border-t border-line px-5 py-6 text-center text-quiet">
          Say whose packets you want to see. They are kept in memory for the time that you choose, without
          passwords.
        </p>
      {/if}
    </Panel>
  {/if}
</main>
