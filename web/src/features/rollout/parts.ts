/** Parts of the page that are fetched when they are first shown. */
export const parts = {
  plan: () => import('./PlanPage.svelte'),
  run: () => import('./RunPage.svelte'),
  acceptance: () => import('./AcceptancePage.svelte'),
  losses: () => import('../design/FailureImpact.svelte'),
  places: () => import('../design/Placement.svelte'),
  sizing: () => import('../design/Sizing.svelte'),
  time: () => import('../design/Time.svelte'),
  dialogs: () => import('./PlanDialogs.svelte'),
  clash: () => import('./Clash.svelte'),
  tables: () => import('./Tables.svelte'),
  deployed: () => import('./Deployed.svelte'),
  removes: () => import('./Removes.svelte'),
  licence: () => import('../../lib/ui/Licence.svelte'),
  planText: () => import('./PlanText.svelte'),
  pairBox: () => import('./PairBox.svelte'),
  secretBox: () => import('./SecretBox.svelte'),
};
