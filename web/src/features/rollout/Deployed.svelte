<script lang="ts">
  /** Of a deployed plan: what a run would change, and what was found otherwise than it was built. */
  import type { PlanView } from '../../lib/api/types';
  import Changes from './Changes.svelte';
  import Drift from './Drift.svelte';

  interface Props {
    plan: PlanView;
    changes: NonNullable<PlanView['changes']>;
    node: string;
    busy: boolean;
    onselect: (node: string, column: string) => void;
    onagain: (node: string) => void;
    onrepair: (nodes: string[]) => void;
  }
  let { plan, changes, node, busy, onselect, onagain, onrepair }: Props = $props();
  let newest = $derived(plan.runs[0]);
</script>

<Changes {plan} {changes} {node} {busy} {onselect} {onagain} />
<Drift
  plan={plan.id}
  version={`${newest?.id ?? ''} ${newest?.state ?? ''}`}
  {busy}
  onselect={(one) => onselect(one, 'host')}
  {onrepair}
/>
