/** What every page may ask for. */
import { createContext } from 'svelte';

import type { Desk } from './desk.svelte';
import type { ConsoleState } from './console.svelte';
import type { Retained } from './retained.svelte';
import type { Theme } from './theme.svelte';

export interface Shell {
  service: ConsoleState;
  theme: Theme;
  /** Outlives the page, so that what was cleared can be brought back within the visit. */
  retained: Retained;
  /** Outlives the page, and so do its clients. */
  desk: Desk;
}

export const [shell, setShell] = createContext<Shell>();
