<script lang="ts">
  import Overview from '$lib/components/overview.svelte';
  import { shell } from '$lib/state/context';

  const { service, theme } = shell();
</script>

<Overview {service} {theme} />
