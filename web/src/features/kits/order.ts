/** The drawing of a kit's order: where boxes lie, and the lines between them. Pure. */
import type { KitAbout } from '../../lib/api/types';

type Stage = KitAbout['order'][number];

export interface Box {
  stage: Stage;
  x: number;
  y: number;
}
export interface Line {
  key: string;
  path: string;
}
export interface Drawing {
  width: number;
  height: number;
  boxes: Box[];
  lines: Line[];
}

export const WIDE = 150,
  HIGH = 40;
const ACROSS = 26,
  DOWN = 14;

/** Columns from left to right by what comes before; within one, in the kit's order. */
export function drawing(order: Stage[]): Drawing {
  const rows = new Map<number, number>();
  const boxes = order.map((stage) => {
    const row = rows.get(stage.column) ?? 0;
    rows.set(stage.column, row + 1);
    return { stage, x: stage.column * (WIDE + ACROSS), y: row * (HIGH + DOWN) };
  });
  const at = new Map(boxes.map((box) => [box.stage.id, box]));
  const lines = boxes.flatMap((to) =>
    to.stage.after.flatMap((id) => {
      const from = at.get(id);
      return from ? [{ key: `${id} ${to.stage.id}`, path: between(from, to) }] : [];
    }),
  );
  const columns = Math.max(0, ...order.map((one) => one.column)) + 1;
  const high = Math.max(1, ...rows.values());
  return {
    width: columns * (WIDE + ACROSS) - ACROSS,
    height: high * (HIGH + DOWN) - DOWN,
    boxes,
    lines,
  };
}

function between(from: Box, to: Box): string {
  const x1 = from.x + WIDE,
    y1 = from.y + HIGH / 2,
    x2 = to.x,
    y2 = to.y + HIGH / 2,
    middle = x2 - ACROSS / 2;
  return `M${x1} ${y1}H${middle}V${y2}H${x2}`;
}

/** Line and column of “line 12, column 3”; the first line where none is named. */
export function placeOf(fault: string): { line: number; column: number } {
  const found = /line (\d+)(?:, column (\d+))?/.exec(fault);
  return { line: Number(found?.[1] ?? 1), column: Number(found?.[2] ?? 1) };
}

/** Where a line and column are in a text. */
export function offsetOf(text: string, place: { line: number; column: number }): number {
  const lines = text.split('\n').slice(0, place.line - 1);
  const before = lines.reduce((sum, one) => sum + one.length + 1, 0);
  return Math.min(text.length, before + place.column - 1);
}
