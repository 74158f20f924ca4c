/** Curves of what sizes and numbers of nodes carry, as paths. Pure. Lengths in pixels. */
import type { OptionView } from '../../lib/api/types';

/** `beyond`: what the fewest nodes of that size carry, where that lies above the picture already and there is no line to see. */
export interface Line {
  size: string;
  path: string;
  x: number;
  y: number;
  beyond: number | null;
}
export interface Curves {
  lines: Line[];
  level: number | null;
  dot: { x: number; y: number } | null;
  from: number;
  to: number;
}

/** One line a size; the level that is wanted, where it lies within the picture; the chosen option as a dot. The picture ends a little above what matters. */
export function curves(
  options: OptionView[],
  load: string,
  wanted: number,
  chosen: OptionView | null | undefined,
  width: number,
  height: number,
): Curves {
  const points = options.filter((o) => load in o.carries);
  const from = Math.min(...points.map((o) => o.count));
  const top = Math.max(
    1e-9,
    Math.min(
      Math.max(...points.map((o) => o.carries[load] ?? 0)),
      Math.max(wanted, chosen?.carries[load] ?? 0) * 1.6 || Infinity,
    ),
    wanted * 1.15,
  );
  const cut = (own: OptionView[]) =>
    own.filter((o, i) => i === 0 || (own[i - 1]?.carries[load] ?? 0) < top);
  const bySize = [...new Set(points.map((o) => o.size))].map(
    (size) =>
      [size, cut(points.filter((o) => o.size === size).sort((a, b) => a.count - b.count))] as const,
  );
  const to = Math.max(
    from + 1,
    (chosen?.count ?? 0) + 1,
    ...bySize.map(([, own]) => own.at(-1)?.count ?? 0),
  );
  const x = (n: number) => ((n - from) / (to - from)) * width,
    y = (v: number) => height - (Math.min(v, top) / top) * (height - 14);
  const lines: Line[] = [];
  for (const [size, shown] of bySize) {
    const last = shown.at(-1);
    if (last)
      lines.push({
        size,
        path: shown
          .map(
            (o, i) =>
              `${i ? 'L' : 'M'}${x(o.count).toFixed(1)} ${y(o.carries[load] ?? 0).toFixed(1)}`,
          )
          .join(''),
        x: x(last.count),
        y: y(last.carries[load] ?? 0),
        beyond:
          shown.length === 1 && (last.carries[load] ?? 0) > top ? (last.carries[load] ?? 0) : null,
      });
  }
  const dot =
    chosen && load in chosen.carries
      ? { x: x(chosen.count), y: y(chosen.carries[load] ?? 0) }
      : null;
  return { lines, level: wanted > 0 ? y(wanted) : null, dot, from, to };
}
