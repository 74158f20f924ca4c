/** Which nodes the sheet shows, and in which order. Nothing that is typed moves or hides the row it is typed in. */
import type { Edit, NodeView } from '../../lib/api/types';
import { nextSort, sorted, type SheetColumn, type Sort } from './columns';

export class Rows {
  sort = $state.raw<Sort | null>(null);
  /** As they were sorted: what is typed afterwards moves none of them. */
  #order = $state.raw<string[]>([]);
  /** Edited since the filter was typed: they stay, whatever they hold now. */
  #edited = $state.raw<string[]>([]);
  #filter = '';

  sortBy(column: string, nodes: NodeView[], columns: SheetColumn[]): void {
    this.sort = nextSort(this.sort, column);
    const by = columns.find((one) => one.id === this.sort?.column);
    this.#order = this.sort && by ? sorted(nodes, by, this.sort.down) : [];
  }
  keep(edits: Edit[]): void {
    this.#edited = [...this.#edited, ...edits.map((one) => String(one.path[1] ?? ''))];
  }
  forget(filter: string): void {
    if (filter === this.#filter) return;
    this.#filter = filter;
    this.#edited = [];
  }
  shown(nodes: NodeView[], filter: string, typing: string | undefined): NodeView[] {
    const wanted = filter.toLowerCase();
    const holds = (node: NodeView) =>
      [node.name, node.role_label, ...Object.values(node.cells).map((one) => one.value)].some(
        (text) => text.toLowerCase().includes(wanted),
      );
    const found = this.#ordered(nodes);
    if (!wanted) return found;
    return found.filter(
      (node) => node.id === typing || this.#edited.includes(node.id) || holds(node),
    );
  }
  #ordered(nodes: NodeView[]): NodeView[] {
    if (!this.#order.length) return nodes;
    const place = new Map(this.#order.map((id, i) => [id, i]));
    const rank = (node: NodeView) => place.get(node.id) ?? this.#order.length;
    return [...nodes].sort((a, b) => rank(a) - rank(b));
  }
}
