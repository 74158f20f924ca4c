<script lang="ts">
  /** The sheet: a row a node and one for all of them, a column a value. */
  import { tick, untrack } from 'svelte';
  import type { Edit, Finding, PlanView } from '../../lib/api/types';
  import { size } from '../../lib/format';
  import { PLAIN, prefs } from '../../lib/prefs.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import { arranged, columnsOf } from './columns';
  import { Grid } from './grid.svelte';
  import { Rows } from './rows.svelte';
  import { EVERY } from './series';
  import SheetCell from './SheetCell.svelte';
  import SheetHead from './SheetHead.svelte';

  interface Props {
    plan: PlanView;
    filter: string;
    /** Whether the choice of columns is open. */
    columns: boolean;
    selected: { node: string; column: string };
    busy: boolean;
    unsent: Edit[][];
    onselect: (node: string, column: string) => void;
    onedit: (edits: Edit[]) => void;
    ontry: (edits: Edit[] | null) => void;
    onsecret: (node: string, column: string) => void;
    onundo: () => void;
    onredo: () => void;
  }
  let {
    plan,
    filter = $bindable(),
    columns: choosing = $bindable(),
    selected,
    busy,
    unsent,
    onselect,
    onedit,
    ontry,
    onsecret,
    onundo,
    onredo,
  }: Props = $props();
  const ROW = 29;
  const columnBox = () => import('./ColumnBox.svelte');
  let box: HTMLDivElement | undefined = $state();
  let scroll = $state(0),
    viewport = $state(300);
  /** Unanswered when the page was opened: they come first, and do not move while they are answered. */
  const asked = untrack(() =>
    plan.findings.filter((one) => one.code === 'unanswered').map((one) => one.column),
  );
  let all = $derived(columnsOf(plan, size));
  let kept = $derived(prefs.sheet(plan.kit));
  let columns = $derived(arranged(all, kept, asked));
  const grid: Grid = new Grid({
    get plan() {
      return plan;
    },
    get columns() {
      return columns;
    },
    get rows() {
      return rows;
    },
    get selected() {
      return selected;
    },
    get unsent() {
      return unsent;
    },
    select: (node, column) => onselect(node, column),
    edit,
    attempt: (edits) => ontry(edits),
    secret: (node, column) => onsecret(node, column),
    undo: () => onundo(),
    redo: () => onredo(),
    focus: () => box?.focus(),
    reveal,
  });
  const order = new Rows();
  $effect(() => order.forget(filter));
  let shown = $derived(order.shown(plan.nodes, filter, grid.typing?.row));
  let rows = $derived([EVERY, ...shown.map((node) => node.id)]);
  let faults = $derived.by(() => {
    const found = new Map<string, Finding>();
    for (const one of plan.findings) {
      const key = `${one.node || EVERY}/${one.column}`;
      if (!found.has(key)) found.set(key, one);
    }
    return found;
  });
  function edit(edits: Edit[]) {
    if (filter) order.keep(edits);
    onedit(edits);
  }
  let first = $derived(Math.max(0, Math.floor(scroll / ROW) - 6));
  let visible = $derived(shown.slice(first, first + Math.ceil(viewport / ROW) + 12));
  let total = $derived(columns.reduce((sum, one) => sum + one.width, 0));

  const leftOf = (column: number) =>
    columns.slice(0, column).reduce((sum, one) => sum + one.width, 0);
  const isFar = (column: number) =>
    leftOf(column) - (box?.scrollLeft ?? 0) > (box?.clientWidth ?? 0) / 2;
  function reveal(row: number, column: number) {
    if (!box) return;
    const top = row * ROW,
      left = leftOf(column),
      width = columns[column]?.width ?? 0,
      name = columns[0]?.width ?? 0;
    if (row > 0 && top < box.scrollTop + ROW) box.scrollTop = top - ROW;
    if (top + 2 * ROW > box.scrollTop + box.clientHeight)
      box.scrollTop = top + 2 * ROW - box.clientHeight + 14;
    if (column > 0 && left < box.scrollLeft + name) box.scrollLeft = left - name;
    if (left + width > box.scrollLeft + box.clientWidth)
      box.scrollLeft = left + width - box.clientWidth;
  }
  $effect(() => {
    if (selected.node) reveal(grid.r, grid.c);
  });
  /** Put the cursor into the chosen cell. Also where its column was hidden, or its row filtered out. */
  export async function editCell(): Promise<void> {
    const { node, column } = selected;
    if (kept.hidden.includes(column))
      prefs.keepSheet(plan.kit, { hidden: kept.hidden.filter((one) => one !== column) });
    if (!rows.includes(node)) filter = '';
    await tick();
    reveal(grid.r, grid.c);
    box?.focus();
    grid.begin();
  }
  /** The corner of the chosen cell is pulled down: what is passed over is filled when it is let go. */
  function pull(event: MouseEvent) {
    event.preventDefault();
    event.stopPropagation();
    grid.filling = true;
    const done = () => {
      if (grid.end && grid.end.r !== grid.r) grid.fillDown();
      grid.filling = false;
      box?.focus();
    };
    addEventListener('mouseup', done, { once: true });
  }
  function copy(event: ClipboardEvent) {
    if (grid.typing) return;
    event.clipboardData?.setData('text/plain', grid.copied());
    event.preventDefault();
  }
  function pasted(event: ClipboardEvent) {
    if (grid.typing) return;
    grid.paste(event.clipboardData?.getData('text/plain') ?? '');
    event.preventDefault();
  }
</script>

<div
  class="sheet"
  bind:this={box}
  bind:clientHeight={viewport}
  onscroll={() => {
    scroll = box?.scrollTop ?? 0;
  }}
  role="grid"
  tabindex="0"
  aria-label="The sheet"
  aria-rowcount={rows.length + 1}
  aria-colcount={columns.length}
  aria-activedescendant={`cell-${grid.r}-${grid.c}`}
  aria-busy={busy}
  onkeydown={(e) => grid.keys(e)}
  oncopy={copy}
  onpaste={pasted}
>
  <div class="inner" style:width={`${total}px`} style:height={`${(shown.length + 2) * ROW + 4}px`}>
    <SheetHead
      {columns}
      sort={order.sort}
      onsort={(id) => order.sortBy(id, plan.nodes, columns)}
      onwiden={(id, width) =>
        prefs.keepSheet(plan.kit, { widths: { ...kept.widths, [id]: width } })}
    />
    <div class="row everyrow" role="row" aria-rowindex={1}>
      {#each columns as column, ci (column.id)}<SheetCell
          {grid}
          row={EVERY}
          ri={0}
          {ci}
          {column}
          fault={faults.get(`${EVERY}/${column.id}`)}
          leftward={isFar(ci)}
          onpull={pull}
        />{/each}
    </div>
    {#each visible as node, i (node.id)}
      <div
        class="row"
        role="row"
        aria-rowindex={first + i + 2}
        class:current={selected.node === node.id}
        style:top={`${(first + i + 2) * ROW}px`}
      >
        {#each columns as column, ci (column.id)}<SheetCell
            {grid}
            row={node.id}
            ri={first + i + 1}
            {ci}
            {column}
            {node}
            fault={faults.get(`${node.id}/${column.id}`)}
            leftward={isFar(ci)}
            onpull={pull}
          />{/each}
      </div>
    {/each}
  </div>
  {#if !shown.length}<p class="none" role="status">
      {#if filter}No node matches “{filter}”.
        <button
          onclick={() => {
            filter = '';
          }}>Clear filter</button
        >{:else}No nodes yet. Set the number of nodes per role above.{/if}
    </p>{/if}
</div>
{#if choosing}<Later
    load={columnBox}
    kit={plan.kit}
    columns={arranged(all, { ...PLAIN, order: kept.order, widths: kept.widths }, asked)}
    onclose={() => {
      choosing = false;
    }}
  />{/if}

<style>
  .sheet {
    flex: 1;
    min-height: 120px;
    overflow: auto;
    border-top: 1px solid var(--strong-line);
    outline-offset: -2px;
    position: relative;
  }
  .inner {
    position: relative;
    min-width: 100%;
  }
  .row {
    display: flex;
    height: 29px;
    min-width: 100%;
    position: absolute;
    left: 0;
    border-bottom: 1px solid var(--line);
  }
  .everyrow {
    position: sticky;
    top: 29px;
    z-index: 2;
    background: var(--paper);
    border-bottom-color: var(--strong-line);
  }
  .current {
    --row: color-mix(in srgb, var(--accent-wash) 45%, var(--paper));
    background: var(--row);
  }
  .none {
    position: sticky;
    left: 0;
    padding: 10px 8px;
    color: var(--soft);
  }
  .none button {
    border: 0;
    background: none;
    color: var(--accent);
    cursor: pointer;
    text-decoration: underline;
  }
</style>
