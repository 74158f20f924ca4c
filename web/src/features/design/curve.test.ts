import { describe, expect, it } from 'vitest';
import type { OptionView } from '../../lib/api/types';
import { curves } from './curve';

const options = (size: string, per: number, most: number): OptionView[] =>
  Array.from({ length: most }, (_, i) => ({
    size,
    count: i + 1,
    memory_bytes: (i + 1) * 2 ** 30,
    carries: { gauges: per * (i + 1) },
  }));

describe('curves', () => {
  it('draws a line a size, the level wanted and the choice upon it', () => {
    const all = [...options('small', 40, 10), ...options('large', 600, 10)];
    const c = curves(all, 'gauges', 140, all[3]!, 200, 100);
    expect(c.lines.map((l) => l.size)).toEqual(['small', 'large']);
    expect(c.dot!.y).toBeLessThan(c.level!);
    expect(c.lines.map((l) => l.beyond)).toEqual([null, 600]); // one large node carries more than the picture shows: told in words
    expect(c.from).toBe(1);
    expect(c.to).toBeLessThanOrEqual(7); // it ends where the lines have left the picture
  });
  it('stays within the picture, whatever is asked', () => {
    for (const wanted of [0, 1, 1e6]) {
      const c = curves(options('small', 40, 10), 'gauges', wanted, null, 200, 100);
      for (const line of c.lines)
        for (const [, x, y] of line.path.matchAll(/[ML]([\d.-]+) ([\d.-]+)/g)) {
          expect(Number(x)).toBeGreaterThanOrEqual(0);
          expect(Number(x)).toBeLessThanOrEqual(200);
          expect(Number(y)).toBeGreaterThanOrEqual(0);
          expect(Number(y)).toBeLessThanOrEqual(100);
        }
    }
  });
  it('draws nothing for a load that nothing speaks of', () => {
    expect(curves(options('small', 40, 3), 'whales', 3, null, 200, 100).lines).toEqual([]);
  });
});
