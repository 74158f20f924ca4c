<script lang="ts">
  /** Deleting a plan, asked once more. One whose cluster is deployed is refused by the server. */
  import { send } from '../../lib/api/client';
  import type { PlanLine } from '../../lib/api/types';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  let { plan, onclose }: { plan: PlanLine; onclose: (deleted: boolean) => void } = $props();
  let busy = $state(false);
  async function remove() {
    busy = true;
    try {
      await send('DELETE', `/plans/${plan.id}`);
      onclose(true);
    } catch (error) {
      notices.problem(error);
      onclose(false);
    }
  }
</script>

<Dialog title={`Delete ${plan.title}?`} onclose={() => onclose(false)}>
  <p>
    The plan and its assigned addresses are deleted; its runs keep their record. Export the plan
    file first if you may need it. This cannot be undone.
  </p>
  <p class="acts">
    <Button kind="danger" disabled={busy} onclick={() => void remove()}>Delete plan</Button>
    <Button onclick={() => onclose(false)}>Cancel</Button>
  </p>
</Dialog>

<style>
  .acts {
    display: flex;
    gap: 10px;
  }
</style>
