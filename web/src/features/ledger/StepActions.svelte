<script lang="ts">
  /** What a person may do about a step: retry, skip; extend, end or begin a wait anew. */
  import type { RunBody } from '../../lib/api/paths';
  import type { StepView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';

  interface Props {
    step: StepView;
    /** The run is being rolled back. */
    undoing?: boolean;
    onrequest: (request: string, body?: RunBody) => void;
  }
  let { step, undoing = false, onrequest }: Props = $props();
  let skipping = $state(false);
  let reason = $state('');
  const EXTENSION_S = 600;
</script>

{#if step.state === 'failed' && step.undo_failed === undoing}
  <div class="acts">
    {#if undoing}
      <Button onclick={() => onrequest('undo')}>Continue rollback</Button>
    {:else}
      <Button onclick={() => onrequest('retry', { steps: [step.key] })}>Retry</Button>
    {/if}
    <Button
      onclick={() => {
        skipping = !skipping;
      }}>{undoing ? 'Leave as it is …' : 'Skip …'}</Button
    >
  </div>
  {#if skipping}
    <form
      class="acts"
      onsubmit={(e) => {
        e.preventDefault();
        onrequest('skip', { steps: [step.key], reason });
        skipping = false;
      }}
    >
      <input
        bind:value={reason}
        placeholder={undoing ? 'Why it cannot be undone' : 'Reason for skipping'}
        aria-label="Reason"
        required
      /><Button type="submit">{undoing ? 'Leave as it is' : 'Skip step'}</Button>
    </form>
  {/if}
{:else if step.state === 'waiting' && !undoing}
  <div class="acts">
    <Button onclick={() => onrequest('extend', { steps: [step.key], seconds: EXTENSION_S })}
      >Extend by 10 min</Button
    >
    <Button onclick={() => onrequest('end-wait', { steps: [step.key] })}>End wait</Button>
    <Button onclick={() => onrequest('retry', { steps: [step.key] })}>Restart wait</Button>
  </div>
{/if}

<style>
  .acts {
    display: flex;
    gap: 8px;
    margin: 6px 0 8px;
    align-items: center;
    flex-wrap: wrap;
  }
  input {
    flex: 1;
    min-width: 0;
  }
</style>
