<script lang="ts">
  /** Which reading of the estate's wall is shown, and what its marks mean. */
  import { READINGS, type Reading } from './readings';

  let { reading, onread }: { reading: Reading; onread: (reading: Reading) => void } = $props();
  const LEGEND: Partial<Record<Reading, string>> = {
    memory: 'hatched: allocated to VMs · dotted line: allocatable · dotted frame: bare metal',
    vcpu: 'hatched: allocated to VMs · dotted line: threads',
    bytes: 'hatched: used · dashed frame: shared, counted once',
    age: 'dotted line: a day',
  };
</script>

<div class="switch" role="group" aria-label="What the wall shows">
  {#each READINGS as [r, label] (r)}<button aria-pressed={reading === r} onclick={() => onread(r)}
      >{label}</button
    >{/each}<span class="quiet"
    >{LEGEND[reading] ?? 'full: blocker · frame: caution · pale: note'}</span
  >
</div>

<style>
  .switch {
    display: flex;
    flex-wrap: wrap;
    align-items: baseline;
    padding: 8px 0 4px;
    font-size: var(--text-s);
    flex: none;
  }
  button {
    border: 0;
    background: none;
    padding: 2px 0;
    margin-right: 14px;
    cursor: pointer;
    color: var(--muted);
    border-bottom: 2px solid transparent;
  }
  [aria-pressed='true'] {
    color: var(--ink);
    border-color: var(--ink);
  }
  span {
    margin-left: auto;
    font-size: var(--text-xs);
  }
</style>
