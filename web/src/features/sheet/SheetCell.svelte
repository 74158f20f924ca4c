<script lang="ts">
  import type { Finding, NodeView } from '../../lib/api/types';
  import { middle } from '../../lib/format';
  import CellInput from './CellInput.svelte';
  import { mono, type SheetColumn } from './columns';
  import { isKept, type Grid } from './grid.svelte';

  interface Props {
    grid: Grid;
    row: string;
    /** Its place among rows and columns, from 0. */
    ri: number;
    ci: number;
    column: SheetColumn;
    node?: NodeView;
    fault?: Finding;
    /** Whether what explains a typed value has no room at its right. */
    leftward: boolean;
    onpull: (event: MouseEvent) => void;
  }
  let { grid, row, ri, ci, column, node, fault, leftward, onpull }: Props = $props();
  let active = $derived(ri === grid.r && ci === grid.c);
  let unsent = $derived(grid.unsentAt(row, column.id) !== undefined);
  let origin = $derived(column.editable ? grid.origin(row, column.id) : 'fixed');
  let typing = $derived(grid.typing?.row === row && grid.typing.column === column.id);
  let text = $derived(grid.shown(row, column));
  let title = $derived.by(() => {
    if (unsent) return 'typed, not sent yet';
    if (origin === 'unused') return 'this node has no such value';
    if (fault) return `${fault.severity}: ${fault.message}`;
    return column.column?.kind === 'secret' ? 'in the keyring' : text;
  });
</script>

<!-- svelte-ignore a11y_click_events_have_key_events -->
<div
  role="gridcell"
  tabindex="-1"
  aria-colindex={ci + 1}
  aria-selected={active}
  aria-invalid={fault?.severity === 'blocker' ? 'true' : undefined}
  id={`cell-${ri}-${ci}`}
  class="cell"
  class:right={column.right}
  class:mono={mono(column.id) || column.right}
  class:first={ci === 0}
  class:active
  class:within={grid.isWithin(ri, ci)}
  class:unsent
  data-origin={origin}
  data-fault={fault?.severity}
  style:width={`${column.width}px`}
  {title}
  onmousedown={(e) => {
    if (grid.typing) grid.commit(0, 0);
    grid.to(ri, ci, e.shiftKey);
  }}
  onmouseenter={(e) => {
    if (e.buttons === 1 && !grid.typing)
      grid.to(ri, grid.filling ? (grid.end?.c ?? grid.c) : ci, true);
  }}
  ondblclick={() => grid.begin()}
>
  {#if typing}
    <CellInput
      {grid}
      {row}
      column={column.id}
      label={`${column.label} of ${node?.name ?? 'every node'}`}
      invalid={fault?.severity === 'blocker'}
      {leftward}
    />
  {:else if ci === 0 && node}<i style:--role={`var(--role-${node.role_index % 5})`}></i><b
      >{middle(text, Math.max(8, Math.floor((column.width - 36) / 7.2)))}</b
    >
  {:else if ci === 0}<span class="every">every node</span>
  {:else}{middle(text, Math.floor((column.width - 14) / 7.2))}{/if}
  <!-- svelte-ignore a11y_no_static_element_interactions -->
  {#if active && !typing && column.editable && !isKept(column)}<i
      class="corner"
      title="Pull down to fill"
      onmousedown={onpull}
    ></i>{/if}
</div>

<style>
  .cell {
    flex: none;
    padding: 4px 8px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    line-height: 21px;
    position: relative;
    outline: none;
    cursor: cell;
  }
  .cell.mono {
    font-size: 12.5px;
  }
  .right {
    text-align: right;
  }
  .first {
    position: sticky;
    left: 0;
    z-index: 1;
    background: var(--row, var(--paper));
    display: flex;
    align-items: center;
    gap: 8px;
    cursor: default;
  }
  .first i {
    width: 5px;
    height: 17px;
    background: var(--role);
    flex: none;
  }
  .first b {
    font-weight: 600;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .every {
    color: var(--soft);
    font-style: italic;
  }
  [data-origin='kit'],
  [data-origin='pool'],
  [data-origin='computed'],
  [data-origin='package'],
  [data-origin='all'],
  [data-origin='fixed'] {
    color: var(--muted);
  }
  [data-origin='plan'],
  [data-origin='group'] {
    color: var(--soft);
  }
  [data-origin='node'] {
    color: var(--ink);
    font-weight: 600;
  }
  [data-origin='unused'] {
    background: repeating-linear-gradient(
      135deg,
      transparent 0 5px,
      color-mix(in srgb, var(--line) 70%, transparent) 5px 6px
    );
    cursor: default;
  }
  .unsent {
    font-style: italic;
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  .within {
    background: var(--accent-wash);
  }
  .corner,
  .first .corner {
    position: absolute;
    right: 0;
    bottom: 0;
    width: 8px;
    height: 8px;
    background: var(--accent);
    cursor: crosshair;
  }
  .active {
    box-shadow: inset 0 0 0 2px var(--accent);
  }
  [data-fault='blocker'] {
    color: var(--blocker);
    background: var(--blocker-wash);
  }
  [data-fault='blocker']::after {
    content: '';
    position: absolute;
    right: 0;
    top: 0;
    border: 4px solid;
    border-color: var(--blocker) var(--blocker) transparent transparent;
  }
  [data-fault='caution'] {
    background: var(--caution-wash);
  }
  [data-fault='caution']::after {
    content: '';
    position: absolute;
    right: 0;
    top: 0;
    width: 4px;
    height: 8px;
    background: var(--caution);
  }
  .cell:has(:global(.effect)) {
    overflow: visible;
    z-index: 6;
  }
</style>
