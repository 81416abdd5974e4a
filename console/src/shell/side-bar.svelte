<script lang="ts">
  import { router } from 'svelte-spa-router';

  const groups = [
    {
      name: 'Watch',
      pages: [
        { path: '/', name: 'Overview' },
        { path: '/sessions', name: 'Sessions' },
        { path: '/topics', name: 'Topics', inner: '/topic' },
        { path: '/retained', name: 'Retained messages' },
        { path: '/journey', name: 'Journeys' },
        { path: '/ladder', name: 'Ladder' },
        { path: '/alerts', name: 'Alerts' },
        { path: '/events', name: 'Events' },
      ],
    },
    {
      name: 'Work',
      pages: [
        { path: '/desk', name: 'Desk' },
        { path: '/first-connection', name: 'First connection' },
      ],
    },
    {
      name: 'Design',
      pages: [
        { path: '/design', name: 'Blueprint' },
        { path: '/access', name: 'Access' },
        { path: '/identities', name: 'Identities' },
      ],
    },
    {
      name: 'Links',
      pages: [
        { path: '/bridges', name: 'Bridges' },
        { path: '/derived', name: 'Derived topics' },
      ],
    },
    {
      name: 'Run',
      pages: [
        { path: '/people', name: 'People' },
        { path: '/audit', name: 'Audit' },
      ],
    },
  ];
</script>

<nav aria-label="Pages" class="w-48 shrink-0 overflow-y-auto border-r border-line py-3 text-sm">
  {#each groups as group (group.name)}
    <h2 class="px-6 pt-2 pb-1 text-xs text-quiet">{group.name}</h2>
    <ul>
      {#each group.pages as page (page.path)}
        {@const here = router.location === page.path || router.location === page.inner}
        <li>
          <a
            href="#{page.path}"
            aria-current={here ? 'page' : undefined}
            class="block border-l-2 px-6 py-1 {here
              ? 'border-moss bg-panel font-semibold text-ink'
              : 'border-transparent text-quiet hover:text-ink'}"
          >
            {page.name}
          </a>
        </li>
      {/each}
    </ul>
  {/each}
</nav>
