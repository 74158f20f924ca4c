<script lang="ts">
  /** The cell that is being typed in. */
  import { session } from '../../lib/session.svelte';
  import type { Grid } from './grid.svelte';

  interface Props {
    grid: Grid;
    row: string;
    column: string;
    label: string;
    invalid: boolean;
    /** Whether what explains the value has no room at its right. */
    leftward: boolean;
  }
  let { grid, row, column, label, invalid, leftward }: Props = $props();
  let options = $derived(grid.options(row, column));
  const grab = (input: HTMLInputElement) => {
    input.focus();
    input.setSelectionRange(input.value.length, input.value.length);
  };
</script>

<input
  use:grab
  bind:value={grid.text}
  oninput={() => grid.attempt()}
  list={options.length ? 'choices' : undefined}
  aria-label={label}
  aria-invalid={invalid ? 'true' : undefined}
  onkeydown={(e) => grid.typingKeys(e)}
  onblur={() => {
    // a sign-in dialog takes the focus and gives it back: typing continues then
    if (grid.typing && !session.asking) grid.commit(0, 0);
  }}
/>
{#if options.length}<datalist id="choices"
    >{#each options as option (option)}<option value={option}></option>{/each}</datalist
  >{/if}
{#if grid.outcome}<span class="effect" class:leftward role="status">{grid.outcome}</span>{/if}

<style>
  input {
    position: absolute;
    inset: 0;
    width: 100%;
    border: 0;
    padding: 0 8px;
    background: var(--surface);
    box-shadow: inset 0 0 0 2px var(--accent);
    outline: none;
    font: inherit;
  }
  .effect {
    position: absolute;
    left: 0;
    top: 100%;
    background: var(--ink);
    color: var(--paper);
    font: 12px var(--sans);
    padding: 3px 9px;
    white-space: nowrap;
    pointer-events: none;
  }
  .leftward {
    left: auto;
    right: 0;
  }
</style>
