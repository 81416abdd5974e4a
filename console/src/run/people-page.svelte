<script lang="ts">
  import { api, type PersonView, type Role } from '$api/client';
  import ConfirmButton from '$ui/confirm-button.svelte';
  import { Notice } from '$ui/notice.svelte';
  import NoticeLine from '$ui/notice-line.svelte';
  import Panel from '$ui/panel.svelte';
  import { moment } from '$lib/format';
  import { shell } from '$shell/context';
  import Table from '$ui/table.svelte';

  const { service } = shell();
  const roles: { role: Role; may: string }[] = [
    { role: 'watch', may: 'view everything' },
    { role: 'operate', may: 'also end sessions, clear retained messages, manage identities' },
    { role: 'design', may: 'also apply blueprints' },
    { role: 'own', may: 'also manage people and authorities' },
  ];
  let people = $state.raw<PersonView[]>([]);
  const notice = new Notice();
  let name = $state('');
  let role = $state<Role>('watch');
  let password = $state('');
  const mayChange = $derived(service.me?.role === 'own');

  async function look() {
    const { data } = await api.GET('/api/v1/people');
    people = data ?? people;
  }

  async function put(name: string, role: Role, password: string | null) {
    const path = { name };
    const { data, error } = await api.PUT('/api/v1/people/{name}', {
      params: { path },
      body: { role, password },
    });
    const done = notice.tell(`${name} has the ${role} role.`, error, data !== undefined);
    await look();
    return done;
  }

  async function make(event: SubmitEvent) {
    event.preventDefault();
    if (await put(name, role, password === '' ? null : password)) name = password = '';
  }

  async function remove(name: string) {
    const { response, error } = await api.DELETE('/api/v1/people/{name}', { params: { path: { name } } });
    notice.tell(`${name} removed, and signed out everywhere.`, error, response.ok);
    await look();
  }

  $effect(() => {
    if (mayChange) void look();
  });
</script>

<main class="flex min-h-0 flex-1 flex-col px-6 py-4">
  <Panel title="People" note="people who can sign in to the console and the command line" fills>
    {#if !mayChange}
      <p class="px-5 pb-4 text-sm text-quiet">
        This page needs the <code>own</code> role; you have <code>{service.me?.role}</code>.
      </p>
    {:else}
      <NoticeLine {notice} class="mx-5 mb-2" />
      <Table
        columns={['Name', 'Role', 'Permissions', 'Changed', '']}
        count={people.length}
        empty="No people yet. Only the administrator can sign in, with the secret in the data folder."
        data-people
      >
        {#each people as person (person.name)}
          <tr class="border-b border-line/60">
            <td class="py-1 pr-3 pl-5 font-medium">{person.name}</td>
            <td class="px-3">
              <select
                class="field text-sm"
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
                question="Remove {person.name}? They are signed out everywhere."
                onconfirm={() => remove(person.name)}
              />
            </td>
          </tr>
        {/each}
      </Table>
      <form class="flex flex-wrap items-center gap-2 px-5 py-3 text-sm" onsubmit={make}>
        <input
          class="field text-sm"
          aria-label="Name of the person"
          placeholder="name"
          required
          bind:value={name}
        />
        <select class="field text-sm" aria-label="Role" bind:value={role}>
          {#each roles as { role } (role)}<option>{role}</option>{/each}
        </select>
        <input
          class="w-64 field text-sm"
          type="password"
          autocomplete="new-password"
          aria-label="Password"
          placeholder="password, at least 10 characters"
          bind:value={password}
        />
        <button class="main-button">Save</button>
      </form>
    {/if}
  </Panel>
</main>
