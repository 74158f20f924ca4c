/** What somebody does in the sheet: moving, choosing, typing, filling, copying, pasting. */
import type { Edit, NodeView, PlanView } from '../../lib/api/types';
import { count } from '../../lib/format';
import { notices } from '../../lib/notices.svelte';
import type { SheetColumn } from './columns';
import { awaiting, editOf, EVERY, next, paste, shared } from './series';

/** What the sheet shows, and what it may ask for. Read anew each time: it changes while somebody types. */
export interface Ground {
  readonly plan: PlanView;
  readonly columns: SheetColumn[];
  readonly rows: string[];
  readonly selected: { node: string; column: string };
  readonly unsent: Edit[][];
  select(node: string, column: string): void;
  edit(edits: Edit[]): void;
  attempt(edits: Edit[] | null): void;
  secret(node: string, column: string): void;
  undo(): void;
  redo(): void;
  focus(): void;
  reveal(row: number, column: number): void;
}

interface Typing {
  row: string;
  column: string;
  /** The value and the plan as they were when typing began. */
  before: string;
  plan: PlanView;
}

export interface Range {
  r0: number;
  r1: number;
  c0: number;
  c1: number;
}

const MOVES: Record<string, { down: number; right: number }> = {
  ArrowUp: { down: -1, right: 0 },
  ArrowDown: { down: 1, right: 0 },
  ArrowLeft: { down: 0, right: -1 },
  ArrowRight: { down: 0, right: 1 },
  PageDown: { down: 12, right: 0 },
  PageUp: { down: -12, right: 0 },
  Home: { down: 0, right: -99 },
  End: { down: 0, right: 99 },
};

/** Values that live in the keyring and have a dialog of their own. */
export const isKept = (column: SheetColumn): boolean =>
  column.column?.kind === 'secret' || column.column?.kind === 'certificate';

export class Grid {
  /** The far corner of what is selected; null: one cell. */
  end = $state.raw<{ r: number; c: number } | null>(null);
  typing = $state.raw<Typing | null>(null);
  text = $state('');
  /** The corner of the chosen cell is being pulled. */
  filling = $state(false);
  #ground: Ground;
  #typed = $derived.by(() => awaiting(this.#ground.unsent));
  #nodes = $derived.by(() => new Map(this.#ground.plan.nodes.map((node) => [node.id, node])));

  constructor(ground: Ground) {
    this.#ground = ground;
  }
  get r(): number {
    return Math.max(0, this.#ground.rows.indexOf(this.#ground.selected.node));
  }
  get c(): number {
    const { columns, selected } = this.#ground;
    return Math.max(
      0,
      columns.findIndex((one) => one.id === selected.column),
    );
  }
  get range(): Range {
    const { r, c, end } = this;
    return {
      r0: Math.min(r, end?.r ?? r),
      r1: Math.max(r, end?.r ?? r),
      c0: Math.min(c, end?.c ?? c),
      c1: Math.max(c, end?.c ?? c),
    };
  }
  isWithin(row: number, column: number): boolean {
    if (!this.end) return false;
    const g = this.range;
    return row >= g.r0 && row <= g.r1 && column >= g.c0 && column <= g.c1;
  }
  node(row: string): NodeView | undefined {
    return this.#nodes.get(row);
  }
  /** What was typed there and is not sent yet; undefined: nothing. */
  unsentAt(row: string, column: string): unknown {
    return this.#typed.size ? this.#typed.get(editOf(row, column, '').path.join('/')) : undefined;
  }
  origin(row: string, column: string): string {
    const found =
      row === EVERY
        ? shared(this.#ground.plan.nodes, column).origin
        : this.node(row)?.cells[column]?.origin;
    return found ?? 'none';
  }
  /** Also for copying, filling down and editing on. */
  value(row: string, column: SheetColumn): string {
    const unsent = this.unsentAt(row, column.id);
    if (typeof unsent === 'string') return unsent;
    const node = this.node(row);
    if (row !== EVERY) return node ? column.text(node) : '';
    return column.editable ? shared(this.#ground.plan.nodes, column.id).value : '';
  }
  shown(row: string, column: SheetColumn): string {
    const text = this.value(row, column);
    const addressing = `${column.id.slice(0, -7)}addressing`;
    if (
      text === '' &&
      column.id.endsWith('address') &&
      this.node(row)?.cells[addressing]?.value === 'dhcp'
    )
      return 'by DHCP';
    if (column.column?.kind === 'secret') return text ? '••••••••' : '';
    const brought = column.column?.kind === 'certificate' && text.startsWith('keyring:');
    return brought ? 'brought' : text;
  }
  /** What may be chosen in a cell. */
  options(row: string, column: string): string[] {
    const { plan } = this.#ground;
    if (column !== 'datastore' && !column.endsWith('.datastore'))
      return plan.columns.find((one) => one.id === column)?.choices ?? [];
    const own = this.node(row)?.host;
    const hosts = row === EVERY ? plan.hosts : plan.hosts.filter((host) => host.name === own);
    return [...new Set(hosts.flatMap((host) => host.stores.map((store) => store.name)))];
  }
  /** What a value typed for every node would do: who follows, who keeps a value of its own. */
  get outcome(): string {
    if (this.typing?.row !== EVERY) return '';
    const id = this.typing.column,
      typed = this.text.trim(),
      nodes = this.typing.plan.nodes;
    const origins = nodes.map((node) => node.cells[id]?.origin ?? '');
    const own = origins.filter((one) => one === 'node' || one === 'group').length,
      none = origins.filter((one) => one === 'unused').length;
    const same = nodes.filter(
      (node, i) =>
        !['node', 'group', 'unused'].includes(origins[i] ?? '') && node.cells[id]?.value === typed,
    ).length;
    const changed = nodes.length - own - none - same;
    const parts = [
      `${typed === '' ? 'resets' : 'changes'} ${changed} of ${nodes.length} nodes`,
      own ? `${own} have their own value` : '',
      same ? `${same} unchanged` : '',
    ];
    return parts.filter(Boolean).join('; ');
  }

  to(row: number, column: number, extend = false): void {
    const { rows, columns } = this.#ground;
    const r = Math.max(0, Math.min(rows.length - 1, row)),
      c = Math.max(0, Math.min(columns.length - 1, column));
    if (extend) {
      this.end = { r, c };
      return;
    }
    this.end = null;
    this.#ground.select(rows[r] ?? EVERY, columns[c]?.id ?? 'name');
    queueMicrotask(() => this.#ground.reveal(r, c));
  }

  /** Start typing in the chosen cell: over what stands there, or with a first character. */
  begin(first?: string): void {
    const column = this.#ground.columns[this.c],
      row = this.#ground.rows[this.r];
    if (!column?.editable || row === undefined || this.origin(row, column.id) === 'unused') return;
    if (isKept(column)) {
      this.#ground.secret(row === EVERY ? '' : row, column.id);
      return;
    }
    const before = this.value(row, column);
    this.typing = { row, column: column.id, before, plan: this.#ground.plan };
    this.text = first ?? before;
    if (first !== undefined) this.attempt();
  }
  /** Shows the consequences of what is typed so far. */
  attempt(): void {
    const { typing, text } = this;
    if (!typing) return;
    const same = text.trim() === typing.before;
    this.#ground.attempt(same ? null : [editOf(typing.row, typing.column, text)]);
  }
  leave(): void {
    this.typing = null;
    this.#ground.attempt(null);
    this.#ground.focus();
  }
  commit(down: number, right: number): void {
    const { typing, text } = this;
    if (!typing) return;
    if (text.trim() === typing.before) this.#ground.attempt(null);
    else this.#ground.edit([editOf(typing.row, typing.column, text)]);
    this.typing = null;
    this.#ground.focus();
    this.to(this.r + down, this.c + right);
  }
  /** One value for every selected cell. */
  commitAll(): void {
    if (!this.typing || !this.end) {
      this.commit(0, 0);
      return;
    }
    const { text } = this;
    const edits = this.#selected().map(({ row, column }) => editOf(row, column.id, text));
    this.typing = null;
    this.#ground.focus();
    if (edits.length) this.#ground.edit(edits);
  }
  /** Selected cells that take a typed value, column by column. */
  #selected(): { row: string; column: SheetColumn; down: number; top: string }[] {
    const g = this.range,
      { rows, columns } = this.#ground;
    const found = [];
    for (const column of columns.slice(g.c0, g.c1 + 1)) {
      if (!column.editable || isKept(column)) continue;
      const top = this.value(rows[g.r0] ?? '', column);
      for (const [down, row] of rows.slice(g.r0, g.r1 + 1).entries())
        found.push({ row, column, down, top });
    }
    return found;
  }
  fillDown(): void {
    const edits = this.#selected()
      .filter((one) => one.down > 0)
      .map((one) => editOf(one.row, one.column.id, next(one.top, one.down)));
    if (edits.length) this.#ground.edit(edits);
  }
  /** What was set by hand goes back to where it would come from. */
  reset(): void {
    const g = this.range,
      { rows, columns } = this.#ground;
    const edits: Edit[] = [];
    for (const row of rows.slice(g.r0, g.r1 + 1))
      for (const column of columns.slice(g.c0, g.c1 + 1)) {
        const byHand = row === EVERY ? 'plan' : 'node';
        if (column.editable && this.origin(row, column.id) === byHand)
          edits.push(editOf(row, column.id, ''));
      }
    if (edits.length) this.#ground.edit(edits);
  }

  keys(event: KeyboardEvent): void {
    if (this.typing) return;
    const ctrl = event.ctrlKey || event.metaKey;
    const handled =
      this.#moved(event, ctrl) || (ctrl ? this.#command(event) : this.#character(event));
    if (!handled) return;
    event.preventDefault();
    event.stopPropagation();
  }
  #moved(event: KeyboardEvent, ctrl: boolean): boolean {
    const { r, c } = this;
    const last = this.#ground.columns.length - 1;
    if (event.key === 'Tab') {
      if (event.shiftKey ? c === 0 : c === last) return false; // out of the sheet
      this.to(r, c + (event.shiftKey ? -1 : 1));
      return true;
    }
    const move = MOVES[event.key];
    if (!move) return false;
    const from = event.shiftKey ? (this.end ?? { r, c }) : { r, c };
    this.to(
      from.r + move.down * (ctrl ? 9999 : 1),
      from.c + move.right * (ctrl ? 99 : 1),
      event.shiftKey,
    );
    return true;
  }
  #command(event: KeyboardEvent): boolean {
    const { rows, columns } = this.#ground;
    switch (event.key) {
      case 'd':
        this.fillDown();
        return true;
      case 'z':
      case 'Z':
        if (event.shiftKey) this.#ground.redo();
        else this.#ground.undo();
        return true;
      case 'y':
        this.#ground.redo();
        return true;
      case 'a':
        this.#ground.select(rows[0] ?? EVERY, columns[0]?.id ?? '');
        this.end = { r: rows.length - 1, c: columns.length - 1 };
        return true;
      default:
        return false;
    }
  }
  #character(event: KeyboardEvent): boolean {
    if (event.key === 'Enter' || event.key === 'F2') this.begin();
    else if (event.key === 'Delete' || event.key === 'Backspace') this.reset();
    else if (event.key === ' ') this.begin();
    // `/` leads to the filter and `?` to the keys; inside a cell both are typed
    else if (event.key.length === 1 && !event.altKey && !'?/'.includes(event.key))
      this.begin(event.key);
    else return false;
    return true;
  }
  /** Keys while a value is typed. */
  typingKeys(event: KeyboardEvent): void {
    event.stopPropagation();
    if (event.key === 'Enter' && (event.ctrlKey || event.metaKey)) this.commitAll();
    else if (event.key === 'Enter') this.commit(event.shiftKey ? -1 : 1, 0);
    else if (event.key === 'Tab') this.commit(0, event.shiftKey ? -1 : 1);
    else if (event.key === 'Escape') this.leave();
    else return;
    event.preventDefault();
  }

  copied(): string {
    const g = this.range,
      { rows, columns } = this.#ground;
    return rows
      .slice(g.r0, g.r1 + 1)
      .map((row) =>
        columns
          .slice(g.c0, g.c1 + 1)
          .map((column) => this.shown(row, column))
          .join('\t'),
      )
      .join('\n');
  }
  paste(text: string): void {
    const { rows, columns } = this.#ground;
    const { edits, left } = paste(text, rows, columns, this.r, this.c);
    if (text === '') notices.say('Nothing pasted', 'The clipboard holds no text.');
    else if (left)
      notices.say(
        `${count(left, 'value')} not pasted`,
        `From here on the sheet has no cells for ${left === 1 ? 'it' : 'them'}, or they take no text. ${count(edits.length, 'value')} pasted.`,
      );
    if (edits.length) this.#ground.edit(edits);
  }
}
