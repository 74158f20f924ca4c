<script lang="ts">
  /** The heads of the sheet's columns: choosing one sorts by it, its right edge widens it. */
  import { NARROWEST, type SheetColumn, type Sort } from './columns';

  interface Props {
    columns: SheetColumn[];
    sort: Sort | null;
    onsort: (column: string) => void;
    onwiden: (column: string, width: number) => void;
  }
  let { columns, sort, onsort, onwiden }: Props = $props();
  function order(column: string): 'ascending' | 'descending' | undefined {
    if (sort?.column !== column) return undefined;
    return sort.down ? 'descending' : 'ascending';
  }
  function pull(event: PointerEvent, column: SheetColumn) {
    event.preventDefault();
    const from = event.clientX,
      before = column.width;
    const move = (e: PointerEvent) =>
      onwiden(column.id, Math.max(NARROWEST, Math.round(before + e.clientX - from)));
    const done = () => removeEventListener('pointermove', move);
    addEventListener('pointermove', move);
    addEventListener('pointerup', done, { once: true });
  }
</script>

<div class="head" role="row">
  {#each columns as column, ci (column.id)}<div
      role="columnheader"
      aria-sort={order(column.id)}
      class="cell"
      class:right={column.right}
      class:first={ci === 0}
      style:width={`${column.width}px`}
    >
      <button tabindex="-1" title={`${column.label}: sort`} onclick={() => onsort(column.id)}
        >{column.label}{#if sort?.column === column.id}<span aria-hidden="true"
            >{sort.down ? ' ↓' : ' ↑'}</span
          >{/if}</button
      >
      <span class="edge" aria-hidden="true" onpointerdown={(e) => pull(e, column)}></span>
    </div>{/each}
</div>

<style>
  .head {
    position: sticky;
    top: 0;
    z-index: 3;
    background: var(--sunk);
    color: var(--soft);
    font-size: var(--text-s);
    display: flex;
    height: 29px;
    min-width: 100%;
  }
  .cell {
    flex: none;
    position: relative;
    line-height: 21px;
  }
  button {
    border: 0;
    background: none;
    color: inherit;
    font: inherit;
    padding: 4px 8px;
    width: 100%;
    text-align: inherit;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    cursor: pointer;
  }
  button:hover {
    color: var(--accent);
  }
  .right {
    text-align: right;
  }
  .first {
    position: sticky;
    left: 0;
    z-index: 1;
    background: var(--sunk);
  }
  .edge {
    position: absolute;
    right: -3px;
    top: 0;
    bottom: 0;
    width: 7px;
    cursor: col-resize;
    z-index: 2;
  }
  .edge:hover {
    background: var(--accent);
    opacity: 0.5;
  }
</style>
