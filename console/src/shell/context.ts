/** What every page may ask for. */
import { createContext } from 'svelte';

import type { ConsoleState } from './console.svelte';
import type { Theme } from './theme.svelte';

export interface Shell {
  service: ConsoleState;
  theme: Theme;
}

export const [shell, setShell] = createContext<Shell>();
