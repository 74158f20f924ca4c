/** Parts of the packages page that are fetched when they are first shown. */
export const parts = {
  one: () => import('./PackagePage.svelte'),
  compare: () => import('./Compare.svelte'),
  trust: () => import('./Trust.svelte'),
};
