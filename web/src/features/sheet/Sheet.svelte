<script lang="ts">
  import type { Edit, Finding, NodeView, PlanView } from '../../lib/api/types';
  import { count, middle, size } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import {
    awaiting,
    columnsOf,
    editOf,
    EVERY,
    mono,
    next,
    paste,
    shared,
    type SheetColumn,
  } from './series';

  interface Props {
    plan: PlanView;
    filter: string;
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
    filter,
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
  let columns = $derived(columnsOf(plan, size));
  let shown = $derived(
    plan.nodes.filter(
      (node) =>
        filter === '' ||
        node.id === editing?.row ||
        [node.name, node.role_label, ...Object.values(node.cells).map((c) => c.value)].some((t) =>
          t.toLowerCase().includes(filter.toLowerCase()),
        ),
    ),
  );
  let rows = $derived([EVERY, ...shown.map((node) => node.id)]);
  let faults = $derived.by(() => {
    const found = new Map<string, Finding>();
    for (const f of plan.findings)
      if (!found.has(`${f.node || EVERY}/${f.column}`))
        found.set(`${f.node || EVERY}/${f.column}`, f);
    return found;
  });
  let r = $derived(Math.max(0, rows.indexOf(selected.node)));
  let c = $derived(
    Math.max(
      0,
      columns.findIndex((one) => one.id === selected.column),
    ),
  );
  let end = $state<{ r: number; c: number } | null>(null);
  /** What is being typed; `before` and `plan`: the value and the plan as they were when it began. */
  let editing = $state.raw<{ row: string; column: string; before: string; plan: PlanView } | null>(
      null,
    ),
    text = $state('');
  let scroll = $state(0),
    viewport = $state(300);
  let box: HTMLDivElement | undefined = $state();
  let first = $derived(Math.max(0, Math.floor(scroll / ROW) - 6));
  let visible = $derived(shown.slice(first, first + Math.ceil(viewport / ROW) + 12));
  let total = $derived(columns.reduce((sum, one) => sum + one.width, 0));
  let options = $derived(editing ? optionsOf(editing.row, editing.column) : []);

  const range = () => ({
    r0: Math.min(r, end?.r ?? r),
    r1: Math.max(r, end?.r ?? r),
    c0: Math.min(c, end?.c ?? c),
    c1: Math.max(c, end?.c ?? c),
  });
  const within = (row: number, column: number) => {
    const g = range();
    return end !== null && row >= g.r0 && row <= g.r1 && column >= g.c0 && column <= g.c1;
  };
  let typed = $derived(awaiting(unsent));
  const typedAt = (row: string, column: string) =>
    typed.size ? typed.get(editOf(row, column, '').path.join('/')) : undefined;
  let byId = $derived(new Map(plan.nodes.map((node) => [node.id, node])));
  const nodeOf = (row: string): NodeView | undefined => byId.get(row);
  const far = (ci: number) =>
    columns.slice(0, ci).reduce((sum, one) => sum + one.width, 0) - (box?.scrollLeft ?? 0) >
    (box?.clientWidth ?? 0) / 2;
  /** What a value typed for every node would do: who follows, who keeps a value of its own. */
  let outcome = $derived.by(() => {
    if (!editing || editing.row !== EVERY) return '';
    const id = editing.column,
      typed = text.trim(),
      nodes = editing.plan.nodes;
    const own = nodes.filter((n) => ['node', 'group'].includes(n.cells[id]?.origin ?? '')).length,
      none = nodes.filter((n) => n.cells[id]?.origin === 'unused').length;
    const follow = nodes.length - own - none,
      same = nodes.filter(
        (n) =>
          !['node', 'group', 'unused'].includes(n.cells[id]?.origin ?? '') &&
          n.cells[id]?.value === typed,
      ).length;
    return `${typed === '' ? 'resets' : 'changes'} ${follow - same} of ${nodes.length} nodes${own ? `; ${own} have their own value` : ''}${same ? `; ${same} unchanged` : ''}`;
  });

  function valueOf(row: string, column: SheetColumn): string {
    const node = nodeOf(row),
      typedHere = typedAt(row, column.id);
    if (typeof typedHere === 'string') return typedHere; // also for copying, filling down and editing on
    if (row !== EVERY) return node ? column.text(node) : '';
    return column.editable ? shared(plan.nodes, column.id).value : '';
  }
  function optionsOf(row: string, column: string): string[] {
    const found = plan.columns.find((one) => one.id === column);
    if (column === 'datastore' || column.endsWith('.datastore')) {
      const hosts =
        row === EVERY ? plan.hosts : plan.hosts.filter((host) => host.name === nodeOf(row)?.host);
      return [...new Set(hosts.flatMap((host) => host.stores.map((store) => store.name)))];
    }
    return found?.choices ?? [];
  }
  /** Values that live in the keyring and have a dialog of their own. */
  const kept = (column: SheetColumn) =>
    column.column?.kind === 'secret' || column.column?.kind === 'certificate';
  function shownText(row: string, column: SheetColumn): string {
    const text = valueOf(row, column);
    if (
      text === '' &&
      column.id.endsWith('address') &&
      nodeOf(row)?.cells[`${column.id.slice(0, -7)}addressing`]?.value === 'dhcp'
    )
      return 'by DHCP';
    return column.column?.kind === 'secret'
      ? text
        ? '••••••••'
        : ''
      : column.column?.kind === 'certificate' && text.startsWith('keyring:')
        ? 'brought'
        : text;
  }
  function to(row: number, column: number, extend = false) {
    const nr = Math.max(0, Math.min(rows.length - 1, row)),
      nc = Math.max(0, Math.min(columns.length - 1, column));
    if (extend) {
      end = { r: nr, c: nc };
      return;
    }
    end = null;
    onselect(rows[nr] ?? EVERY, columns[nc]?.id ?? 'name');
    queueMicrotask(() => reveal(nr, nc));
  }
  function reveal(row: number, column: number) {
    if (!box) return;
    const top = row * ROW,
      left = columns.slice(0, column).reduce((sum, one) => sum + one.width, 0),
      width = columns[column]?.width ?? 0;
    if (row > 0 && top < box.scrollTop + ROW) box.scrollTop = top - ROW;
    if (top + 2 * ROW > box.scrollTop + box.clientHeight)
      box.scrollTop = top + 2 * ROW - box.clientHeight + 14;
    if (column > 0 && left < box.scrollLeft + (columns[0]?.width ?? 0))
      box.scrollLeft = left - (columns[0]?.width ?? 0);
    if (left + width > box.scrollLeft + box.clientWidth)
      box.scrollLeft = left + width - box.clientWidth;
  }
  $effect(() => {
    if (selected.node) reveal(r, c);
  });

  function begin(typed?: string) {
    const column = columns[c],
      row = rows[r];
    if (!column?.editable || row === undefined || originOf(row, column.id) === 'unused') return;
    if (kept(column)) {
      onsecret(row === EVERY ? '' : row, column.id);
      return;
    }
    const before = valueOf(row, column);
    editing = { row, column: column.id, before, plan };
    text = typed ?? before;
    if (typed !== undefined) attempt();
  }
  /** Shows the consequences of what is typed so far. */
  function attempt() {
    if (editing)
      ontry(text.trim() === editing.before ? null : [editOf(editing.row, editing.column, text)]);
  }
  function leave() {
    editing = null;
    ontry(null);
    box?.focus();
  }
  function commit(dr: number, dc: number) {
    if (!editing) return;
    if (text.trim() !== editing.before) onedit([editOf(editing.row, editing.column, text)]);
    else ontry(null);
    editing = null;
    box?.focus();
    to(r + dr, c + dc);
  }
  /** One value for every selected cell. */
  function commitAll() {
    if (!editing || !end) {
      commit(0, 0);
      return;
    }
    const g = range(),
      edits: Edit[] = [];
    for (let column = g.c0; column <= g.c1; column++) {
      const one = columns[column];
      if (one?.editable && !kept(one))
        for (let row = g.r0; row <= g.r1; row++) edits.push(editOf(rows[row] ?? '', one.id, text));
    }
    editing = null;
    box?.focus();
    if (edits.length) onedit(edits);
  }
  function fillDown() {
    const g = range(),
      edits: Edit[] = [];
    for (let column = g.c0; column <= g.c1; column++) {
      const id = columns[column];
      if (!id?.editable || kept(id)) continue;
      const top = valueOf(rows[g.r0] ?? '', id);
      for (let row = g.r0 + 1; row <= g.r1; row++)
        edits.push(editOf(rows[row] ?? '', id.id, next(top, row - g.r0)));
    }
    if (edits.length) onedit(edits);
  }
  /** The corner of the chosen cell is pulled down: what is passed over is filled, as Ctrl+D does, when it is let go. */
  let filling = $state(false);
  function pull(event: MouseEvent) {
    event.preventDefault();
    event.stopPropagation();
    filling = true;
    addEventListener(
      'mouseup',
      () => {
        if (filling && end && end.r !== r) fillDown();
        filling = false;
        box?.focus();
      },
      { once: true },
    );
  }
  const over = (event: MouseEvent, ri: number, ci: number) => {
    if (event.buttons === 1 && !editing) to(ri, filling ? (end?.c ?? c) : ci, true);
  };
  function putBack() {
    const g = range(),
      edits: Edit[] = [];
    for (let row = g.r0; row <= g.r1; row++)
      for (let column = g.c0; column <= g.c1; column++) {
        const id = columns[column],
          name = rows[row] ?? '';
        if (
          id?.editable &&
          (name === EVERY
            ? shared(plan.nodes, id.id).origin === 'plan'
            : nodeOf(name)?.cells[id.id]?.origin === 'node')
        )
          edits.push({
            path: name === EVERY ? ['values', id.id] : ['nodes', name, id.id],
            value: null,
          });
      }
    if (edits.length) onedit(edits);
  }
  function keys(event: KeyboardEvent) {
    if (editing) return;
    const ctrl = event.ctrlKey || event.metaKey,
      from = event.shiftKey ? (end ?? { r, c }) : { r, c };
    const moves: Record<string, [number, number]> = {
      ArrowUp: [-1, 0],
      ArrowDown: [1, 0],
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
      PageDown: [12, 0],
      PageUp: [-12, 0],
      Home: [0, -99],
      End: [0, 99],
    };
    const move = moves[event.key];
    if (move)
      to(
        from.r + (ctrl ? 9999 * move[0] : move[0]),
        from.c + (ctrl ? 99 * move[1] : move[1]),
        event.shiftKey,
      );
    else if (event.key === 'Tab') {
      if ((event.shiftKey && c === 0) || (!event.shiftKey && c === columns.length - 1)) return;
      to(r, c + (event.shiftKey ? -1 : 1));
    } else if (event.key === 'Enter' || event.key === 'F2') begin();
    else if (event.key === 'Delete' || event.key === 'Backspace') putBack();
    else if (ctrl && event.key === 'd') fillDown();
    else if (ctrl && event.key === 'z') {
      if (event.shiftKey) onredo();
      else onundo();
    } else if (ctrl && event.key === 'y') onredo();
    else if (ctrl && event.key === 'a') {
      onselect(rows[0] ?? EVERY, columns[0]?.id ?? '');
      end = { r: rows.length - 1, c: columns.length - 1 };
    } else if (!ctrl && !event.altKey && event.key.length === 1 && event.key !== '?')
      begin(event.key === ' ' ? undefined : event.key);
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
  function copy(event: ClipboardEvent) {
    if (editing) return;
    const g = range();
    const text = rows
      .slice(g.r0, g.r1 + 1)
      .map((row) =>
        columns
          .slice(g.c0, g.c1 + 1)
          .map((column) => shownText(row, column))
          .join('\t'),
      )
      .join('\n');
    event.clipboardData?.setData('text/plain', text);
    event.preventDefault();
  }
  function pasted(event: ClipboardEvent) {
    if (editing) return;
    const text = event.clipboardData?.getData('text/plain') ?? '';
    const { edits, left } = paste(text, rows, columns, r, c);
    if (text === '') notices.say('Nothing pasted', 'The clipboard holds no text.');
    else if (left)
      notices.say(
        `${count(left, 'value')} not pasted`,
        `There ${left === 1 ? 'is' : 'are'} no cell${left === 1 ? '' : 's'} for ${left === 1 ? 'it' : 'them'} from here on: the sheet ends, or a cell takes no text. ${count(edits.length, 'value')} pasted.`,
      );
    if (edits.length) onedit(edits);
    event.preventDefault();
  }
  function field(event: KeyboardEvent) {
    const done: Record<string, [number, number]> = {
      Enter: [event.shiftKey ? -1 : 1, 0],
      Tab: [0, event.shiftKey ? -1 : 1],
    };
    const move = done[event.key];
    if (event.key === 'Enter' && (event.ctrlKey || event.metaKey)) {
      commitAll();
      event.preventDefault();
      event.stopPropagation();
      return;
    }
    if (move) {
      commit(...move);
      event.preventDefault();
    }
    if (event.key === 'Escape') {
      leave();
      event.preventDefault();
    }
    event.stopPropagation();
  }
  const grab = (input: HTMLInputElement) => {
    input.focus();
    input.setSelectionRange(input.value.length, input.value.length);
  };
  const originOf = (row: string, column: string) =>
    (row === EVERY ? shared(plan.nodes, column).origin : nodeOf(row)?.cells[column]?.origin) ??
    'none';
</script>

{#snippet cell(row: string, ri: number, column: SheetColumn, ci: number, node?: NodeView)}
  {@const fault = faults.get(`${row}/${column.id}`)}
  {@const unsaved = typedAt(row, column.id)}
  <!-- svelte-ignore a11y_click_events_have_key_events -->
  <div
    role="gridcell"
    tabindex="-1"
    aria-colindex={ci + 1}
    aria-selected={ri === r && ci === c}
    id={`cell-${ri}-${ci}`}
    class="cell"
    class:right={column.right}
    class:mono={mono(column.id) || column.right}
    class:first={ci === 0}
    class:active={ri === r && ci === c}
    class:within={within(ri, ci)}
    data-origin={column.editable ? originOf(row, column.id) : 'fixed'}
    data-fault={fault?.severity}
    class:unsaved={unsaved !== undefined}
    style:width={`${column.width}px`}
    title={unsaved !== undefined
      ? 'typed, not sent yet'
      : column.editable && originOf(row, column.id) === 'unused'
        ? 'this node has no such value'
        : fault
          ? `${fault.severity}: ${fault.message}`
          : column.column?.kind === 'secret'
            ? 'in the keyring'
            : shownText(row, column)}
    onmousedown={(e) => {
      if (editing) commit(0, 0);
      to(ri, ci, e.shiftKey);
    }}
    onmouseenter={(e) => over(e, ri, ci)}
    ondblclick={() => begin()}
  >
    {#if editing && editing.row === row && editing.column === column.id}
      <input
        use:grab
        bind:value={text}
        oninput={attempt}
        list={options.length ? 'choices' : undefined}
        aria-label={`${column.label} of ${node?.name ?? 'every node'}`}
        onkeydown={field}
        onblur={() => {
          if (editing) commit(0, 0);
        }}
      />
      {#if outcome}<span class="effect" class:leftward={far(ci)} role="status">{outcome}</span>{/if}
    {:else if ci === 0 && node}<i style:--role={`var(--role-${node.role_index % 5})`}></i><b
        >{middle(shownText(row, column), 16)}</b
      >
    {:else if ci === 0}<span class="every">every node</span>
    {:else}{middle(shownText(row, column), Math.floor((column.width - 14) / 7.2))}{/if}
    <!-- svelte-ignore a11y_no_static_element_interactions -->
    {#if ri === r && ci === c && !editing && column.editable && !kept(column)}<i
        class="corner"
        title="Pull down to fill"
        onmousedown={pull}
      ></i>{/if}
  </div>
{/snippet}

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
  aria-activedescendant={`cell-${r}-${c}`}
  aria-busy={busy}
  onkeydown={keys}
  oncopy={copy}
  onpaste={pasted}
>
  <div class="inner" style:width={`${total}px`} style:height={`${(shown.length + 2) * ROW + 4}px`}>
    <div class="head" role="row">
      {#each columns as column, ci (column.id)}<div
          role="columnheader"
          class="cell"
          class:right={column.right}
          class:first={ci === 0}
          style:width={`${column.width}px`}
        >
          {column.label}
        </div>{/each}
    </div>
    <div class="row everyrow" role="row" aria-rowindex={1}>
      {#each columns as column, ci (column.id)}{@render cell(EVERY, 0, column, ci)}{/each}
    </div>
    {#each visible as node, i (node.id)}
      <div
        class="row"
        role="row"
        aria-rowindex={first + i + 2}
        class:current={selected.node === node.id}
        style:top={`${(first + i + 2) * ROW}px`}
      >
        {#each columns as column, ci (column.id)}{@render cell(
            node.id,
            first + i + 1,
            column,
            ci,
            node,
          )}{/each}
      </div>
    {/each}
  </div>
  {#if options.length}<datalist id="choices"
      >{#each options as option (option)}<option value={option}></option>{/each}</datalist
    >{/if}
</div>

<style>
  .sheet {
    flex: 1;
    min-height: 0;
    overflow: auto;
    border-top: 1px solid var(--strong-line);
    outline-offset: -2px;
    position: relative;
  }
  .inner {
    position: relative;
    min-width: 100%;
  }
  .head,
  .row {
    display: flex;
    height: 29px;
    min-width: 100%;
  }
  .head {
    position: sticky;
    top: 0;
    z-index: 3;
    background: var(--sunk);
    color: var(--soft);
    font-size: var(--text-s);
  }
  .row {
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
    background: color-mix(in srgb, var(--accent-wash) 45%, transparent);
  }
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
    background: var(--paper);
    display: flex;
    align-items: center;
    gap: 8px;
    cursor: default;
  }
  .head .first {
    background: var(--sunk);
  }
  .current .first {
    background: color-mix(in srgb, var(--accent-wash) 45%, var(--paper));
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
  .cell.unsaved {
    font-style: italic;
    text-decoration: underline dotted;
    text-underline-offset: 3px;
  }
  .within {
    background: var(--accent-wash);
  }
  .corner {
    position: absolute;
    right: 0;
    bottom: 0;
    width: 8px;
    height: 8px;
    background: var(--accent);
    cursor: crosshair;
  }
  .first .corner {
    width: 8px;
    height: 8px;
    background: var(--accent);
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
  .cell:has(.effect) {
    overflow: visible;
    z-index: 6;
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
  .effect.leftward {
    left: auto;
    right: 0;
  }
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
</style>
