/** What filling down, typing and pasting mean. Pure. */
import type { Edit, NodeView } from '../../lib/api/types';
import type { SheetColumn } from './columns';

export const EVERY = '*';

/** The next value of a series: addresses and trailing numbers count up, all else repeats. */
export function next(value: string, by: number): string {
  const parts = value.split('.');
  if (parts.length === 4 && parts.every((part) => /^\d{1,3}$/.test(part) && Number(part) < 256)) {
    const number = parts.reduce((sum, part) => sum * 256 + Number(part), 0) + by;
    return [24, 16, 8, 0].map((shift) => Math.floor(number / 2 ** shift) % 256).join('.');
  }
  const match = /^(.*?)(\d+)$/.exec(value);
  if (!match) return value;
  const digits = match[2] ?? '';
  return `${match[1]}${String(Number(digits) + by).padStart(digits.length, '0')}`;
}

/** The edit that a typed value means: in a node's row for that node alone, in the row “every node” for the whole plan. Empty puts back. */
export function editOf(row: string, column: string, text: string): Edit {
  const value = text.trim() === '' ? null : text.trim();
  return { path: row === EVERY ? ['values', column] : ['nodes', row, column], value };
}

/** Values that were typed and that the server has not answered yet, by the path they are written to; null puts a cell back. */
export function awaiting(unsent: Edit[][]): Map<string, unknown> {
  return new Map(unsent.flat().map((edit) => [edit.path.join('/'), edit.value ?? null]));
}

/** What a clipboard's text would change, and how many of its values found no cell that takes them. */
export interface Pasted {
  edits: Edit[];
  left: number;
}

/** A block of text from a spreadsheet, laid over the sheet from a cell on. Cells outside, and columns that cannot be edited, are passed over. */
export function paste(
  text: string,
  rows: string[],
  columns: SheetColumn[],
  row: number,
  column: number,
): Pasted {
  const found: Pasted = { edits: [], left: 0 };
  if (text === '') return found; // a clipboard without text blanks nothing
  const lines = text.replace(/\r?\n$/, '').split(/\r?\n/);
  lines.forEach((line, r) =>
    line.split('\t').forEach((value, c) => {
      const to = columns[column + c],
        node = rows[row + r];
      const takes =
        to?.editable && to.column?.kind !== 'secret' && to.column?.kind !== 'certificate';
      if (to && takes && node !== undefined) found.edits.push(editOf(node, to.id, value));
      else found.left++;
    }),
  );
  return found;
}

/** What stands in the plan for all nodes: the value when every node shares it from the plan, the kit or a pool. */
export function shared(nodes: NodeView[], column: string): { value: string; origin: string } {
  const cells = nodes
    .map((node) => node.cells[column])
    .filter((cell) => cell && cell.origin !== 'unused');
  const own = cells.find((cell) => cell?.origin === 'plan');
  if (own) return own;
  if (!cells.length && nodes.length) return { value: '', origin: 'unused' };
  const values = new Set(cells.map((cell) => cell?.value ?? ''));
  return values.size === 1
    ? { value: [...values][0] ?? '', origin: 'all' }
    : { value: '', origin: 'mixed' };
}
