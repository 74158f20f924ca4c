<script lang="ts">
  /** What a person may do about a step: retry, skip; extend, end or begin a wait anew. */
  import type { RunBody } from '../../lib/api/paths';
  import type { StepView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';

  interface Props {
    step: StepView;
    onrequest: (request: string, body?: RunBody) => void;
  }
  let { step, onrequest }: Props = $props();
  let skipping = $state(false);
  let reason = $state('');
  const EXTENSION_S = 600;
</script>

{#if step.state === 'failed' && !step.undo_failed}
  <div class="acts">
    <Button onclick={() => onrequest('retry', { steps: [step.key] })}>Retry</Button>
    <Button
      onclick={() => {
        skipping = !skipping;
      }}>Skip …</Button
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
        placeholder="Reason for skipping"
        aria-label="Reason"
        required
      /><Button type="submit">Skip step</Button>
    </form>
  {/if}
{:else if step.state === 'waiting'}
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
