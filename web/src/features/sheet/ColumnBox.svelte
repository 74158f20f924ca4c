<script lang="ts">
  /** Which columns the sheet shows, in which order and how wide: kept for this browser, for every plan of the kit. */
  import { PLAIN, prefs } from '../../lib/prefs.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import { NARROWEST, type SheetColumn } from './columns';

  interface Props {
    kit: string;
    /** All of them, as they are ordered now. */
    columns: SheetColumn[];
    onclose: () => void;
  }
  let { kit, columns, onclose }: Props = $props();
  const STEP = 24;
  let kept = $derived(prefs.sheet(kit));
  let ids = $derived(columns.map((one) => one.id));
  function show(id: string, shown: boolean) {
    const hidden = kept.hidden.filter((one) => one !== id);
    prefs.keepSheet(kit, { hidden: shown ? hidden : [...hidden, id] });
  }
  function move(id: string, by: number) {
    const order = [...ids],
      at = order.indexOf(id);
    const to = Math.max(1, Math.min(order.length - 1, at + by));
    order.splice(at, 1);
    order.splice(to, 0, id);
    prefs.keepSheet(kit, { order });
  }
  function widen(column: SheetColumn, by: number) {
    const width = Math.max(NARROWEST, column.width + by);
    prefs.keepSheet(kit, { widths: { ...kept.widths, [column.id]: width } });
  }
</script>

<Dialog title="Columns" {onclose}>
  <p class="quiet">For all plans of this kit, in this browser. The name stays at the left.</p>
  <ul>
    {#each columns as column, i (column.id)}
      <li>
        <label
          ><input
            type="checkbox"
            checked={!kept.hidden.includes(column.id)}
            disabled={column.id === 'name'}
            onchange={(e) => show(column.id, e.currentTarget.checked)}
          />
          {column.label}</label
        >
        {#if column.id !== 'name'}<span
            ><button
              aria-label={`Move ${column.label} to the left`}
              disabled={i === 1}
              onclick={() => move(column.id, -1)}>←</button
            ><button
              aria-label={`Move ${column.label} to the right`}
              disabled={i === columns.length - 1}
              onclick={() => move(column.id, 1)}>→</button
            ><button aria-label={`${column.label} narrower`} onclick={() => widen(column, -STEP)}
              >−</button
            ><button aria-label={`${column.label} wider`} onclick={() => widen(column, STEP)}
              >+</button
            ></span
          >{/if}
      </li>
    {/each}
  </ul>
  <div class="acts">
    <Button kind="main" onclick={onclose}>Close</Button><Button
      onclick={() => prefs.keepSheet(kit, PLAIN)}>Reset columns</Button
    >
  </div>
</Dialog>

<style>
  ul {
    list-style: none;
    margin: 10px 0 14px;
    padding: 0;
    max-height: 52vh;
    overflow: auto;
  }
  li {
    display: flex;
    justify-content: space-between;
    align-items: center;
    padding: 2px 0;
    border-bottom: 1px solid var(--line);
  }
  button {
    border: 0;
    background: none;
    color: var(--accent);
    cursor: pointer;
    padding: 2px 8px;
    min-width: 26px;
    min-height: 25px;
  }
  button:disabled {
    color: var(--muted);
    cursor: default;
  }
  .acts {
    display: flex;
    gap: 10px;
  }
</style>
