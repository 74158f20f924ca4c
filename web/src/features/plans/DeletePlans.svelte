<script lang="ts">
  /** Deleting plans, asked once more. One whose cluster is deployed is refused by the server. */
  import { send } from '../../lib/api/client';
  import type { PlanLine } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  let { plans, onclose }: { plans: PlanLine[]; onclose: (deleted: boolean) => void } = $props();
  let busy = $state(false);
  let what = $derived(
    plans.length === 1 ? (plans[0]?.title ?? 'plan') : count(plans.length, 'plan'),
  );
  async function remove() {
    busy = true;
    let deleted = false;
    for (const plan of plans)
      try {
        await send('DELETE', `/plans/${plan.id}`);
        deleted = true;
      } catch (error) {
        notices.problem(error);
      }
    onclose(deleted);
  }
</script>

<Dialog title={`Delete ${what}?`} onclose={() => onclose(false)}>
  {#if plans.length > 1}<p class="mono">{plans.map((plan) => plan.id).join(' ')}</p>{/if}
  <p>
    {plans.length === 1
      ? 'The plan and its assigned addresses are deleted; its runs keep their record. Export the plan file first if you may need it.'
      : 'The plans and their assigned addresses are deleted; their runs keep their record.'} This cannot
    be undone.
  </p>
  <p class="acts">
    <Button kind="danger" disabled={busy} onclick={() => void remove()}
      >Delete {plans.length === 1 ? 'plan' : count(plans.length, 'plan')}</Button
    >
    <Button onclick={() => onclose(false)}>Cancel</Button>
  </p>
</Dialog>

<style>
  p {
    margin-bottom: 10px;
  }
  .acts {
    display: flex;
    gap: 10px;
  }
</style>
