<script lang="ts">
  import { api, reasonOf, type PersonView, type Role } from '$lib/api/client';
  import ConfirmButton from '$lib/components/confirm-button.svelte';
  import Panel from '$lib/components/panel.svelte';
  import { moment } from '$lib/format';
  import { shell } from '$lib/state/context';

  const { service } = shell();
  const roles: { role: Role; may: string }[] = [
    { role: 'watch', may: 'look at everything' },
    { role: 'operate', may: 'end sessions, change identities' },
    { role: 'design', may: 'change the design' },
    { role: 'own', may: 'say who runs the broker, and whom it trusts' },
  ];
  let people = $state.raw<PersonView[]>([]);
  let trouble = $state('');
  let done = $state('');
  let name = $state('');
  let role = $state<Role>('watch');
  let password = $state('');
  const mayChange = $derived(service.me?.role === 'own');
  const field = 'rounded border border-line bg-page px-2 py-1 text-sm';

  async function look() {
    const { data } = await api.GET('/api/v1/people');
    people = data ?? people;
  }

  async function tell(words: string, error: unknown, good: boolean) {
    trouble = good ? '' : reasonOf(error);
    done = good ? words : '';
    await look();
  }

  async function put(name: string, role: Role, password: string | null) {
    const path = { name };
    const { data, error } = await api.PUT('/api/v1/people/{name}', {
      params: { path },
      body: { role, password },
    });
    await tell(`${name} has the role ${role}.`, error, data !== undefined);
    return data !== undefined;
  }

  async function make(event: SubmitEvent) {
    event.preventDefault();
    if (await put(name, role, password === '' ? null : password)) name = password = '';
  }

  async function remove(name: string) {
    const { response, error } = await api.DELETE('/api/v1/people/{name}', { params: { path: { name } } });
    await tell(`${name} is removed, and signed out everywhere.`, error, response.ok);
  }

  $effect(() => {
    if (mayChange) void look();
  });
</script>

<main class="flex min-h-0 flex-1 flex-col px-6 py-4">
  <Panel title="People" note="who may run the broker, from here and by command" fills>
    {#if !mayChange}
      <p class="px-5 pb-4 text-sm text-quiet">
        {service.me?.name} has the role {service.me?.role}; only who has the role own sees and changes this.
      </p>
    {:else}
      {#if done}<p class="mx-5 mb-2 text-sm text-moss" role="status">{done}</p>{/if}
      {#if trouble}<p class="mx-5 mb-2 text-sm text-wrong" role="alert">{trouble}</p>{/if}
      <table class="w-full text-sm" data-people>
        <thead class="bg-panel text-left text-quiet">
          <tr class="border-y border-line">
            {#each ['Name', 'Role', 'May', 'Last changed', ''] as heading (heading)}
              <th scope="col" class="px-3 py-1.5 font-medium first:pl-5">{heading}</th>
            {/each}
          </tr>
        </thead>
        <tbody>
          {#each people as person (person.name)}
            <tr class="border-b border-line/60">
              <td class="py-1 pr-3 pl-5 font-medium">{person.name}</td>
              <td class="px-3">
                <select
                  class={field}
                  aria-label="Role of {person.name}"
                  value={person.role}
                  onchange={(event) => put(person.name, event.currentTarget.value as Role, null)}
                >
                  {#each roles as { role } (role)}<option>{role}</option>{/each}
                </select>
              </td>
              <td class="px-3 text-quiet">{roles.find((known) => known.role === person.role)?.may}</td>
              <td class="px-3 text-quiet tabular-nums">{moment(person.changed_at)}</td>
              <td class="px-3">
                <ConfirmButton
                  label="Remove"
                  question="They are signed out everywhere."
                  onconfirm={() => remove(person.name)}
                />
              </td>
            </tr>
          {:else}
            <tr>
              <td colspan="5" class="px-5 py-4 text-quiet">
                Nobody yet but the administrator, who has the secret in the data folder.
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
      <form class="flex flex-wrap items-center gap-2 px-5 py-3 text-sm" onsubmit={make}>
        <input class={field} aria-label="Name of the person" placeholder="name" required bind:value={name} />
        <select class={field} aria-label="Role" bind:value={role}>
          {#each roles as { role } (role)}<option>{role}</option>{/each}
        </select>
        <input
          class="{field} w-64"
          type="password"
          autocomplete="new-password"
          aria-label="Password"
          placeholder="password, ten characters or more"
          bind:value={password}
        />
        <button class="rounded bg-moss px-4 py-1 font-medium text-panel">Make or change</button>
      </form>
    {/if}
  </Panel>
</main>
