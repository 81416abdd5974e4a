<script lang="ts">
  import Overview from './overview.svelte';
  import { shell } from '$shell/context';

  const { service, theme } = shell();
</script>

<Overview {service} {theme} />
