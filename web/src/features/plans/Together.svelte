<script lang="ts">
  /** What is done once for all plans of a table: licences, passwords, and columns for open questions. */
  import type { ManyView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import type { Many } from './many.svelte';

  let { many, answer }: { many: Many; answer: ManyView } = $props();
  let made = $derived(answer.plans.reduce((sum, one) => sum + one.passwords, 0));
</script>

<div class="together">
  {#if answer.licence}<label
      >Licences accepted by <input
        bind:value={many.by}
        maxlength="80"
        placeholder="your name"
        onchange={() => void many.look()}
      /></label
    >{/if}
  <label
    ><input type="checkbox" bind:checked={many.passwords} onchange={() => void many.look()} />
    Generate missing passwords{made ? ` (${made})` : ''}</label
  >
  {#if answer.unanswered.length && !many.file}<span
      >Not answered: {#each answer.unanswered as one (one.column)}<Button
          kind="link"
          onclick={() => many.ask(one.column)}
          title={`In ${count(one.plans, 'plan')}`}>add column “{one.label}”</Button
        >{/each}</span
    >{:else if answer.unanswered.length}<span
      >Not answered in the file: {answer.unanswered.map((one) => one.column).join(', ')}</span
    >{/if}
</div>

<style>
  .together {
    display: flex;
    flex-wrap: wrap;
    gap: 8px 26px;
    align-items: center;
    padding: 8px 0 10px;
  }
</style>
