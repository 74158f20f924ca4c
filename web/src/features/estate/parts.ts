/** Parts of the page that are fetched when they are first shown. */
export const parts = {
  addHosts: () => import('./AddHosts.svelte'),
  groundPage: () => import('./PreparationPage.svelte'),
  hostPage: () => import('./HostPage.svelte'),
  machinePage: () => import('./MachinePage.svelte'),
  networks: () => import('./Networks.svelte'),
  drives: () => import('./Drives.svelte'),
  pools: () => import('./Pools.svelte'),
  inspect: () => import('./Inspect.svelte'),
  wipe: () => import('./Wipe.svelte'),
  write: () => import('./WriteImage.svelte'),
  inside: () => import('./MachineInside.svelte'),
  prepare: () => import('./Prepare.svelte'),
};
