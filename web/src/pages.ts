/** The pages, each in a file of its own that is fetched when it is first opened. */
export const pages = {
  estate: () => import('./features/estate/Estate.svelte'),
  help: () => import('./features/help/Help.svelte'),
  kits: () => import('./features/kits/Kits.svelte'),
  keyring: () => import('./features/keyring/Keyring.svelte'),
  overview: () => import('./features/overview/Overview.svelte'),
  packages: () => import('./features/packages/Packages.svelte'),
  plans: () => import('./features/plans/Plans.svelte'),
  runs: () => import('./features/overview/Runs.svelte'),
  rollout: () => import('./features/rollout/Rollout.svelte'),
};

/** What lies over a page when it is asked for. */
export const shell = {
  keys: () => import('./features/shell/Keys.svelte'),
  palette: () => import('./features/shell/Palette.svelte'),
};

/** Fetch the other pages while nothing else is to be done, so that opening them waits for nothing. */
export function fetchAhead(): void {
  const later = window.requestIdleCallback ?? ((go: () => void) => setTimeout(go, 2000));
  later(() => {
    // one that cannot be fetched now is asked for again when it is opened
    for (const load of [...Object.values(shell), ...Object.values(pages)])
      load().catch(() => undefined);
  });
}
