import { describe, expect, it } from 'vitest';
import { drawing, HIGH, offsetOf, placeOf, WIDE } from './order';

const stage = (id: string, column: number, after: string[] = []) => ({
  id,
  label: id,
  kind: 'role',
  of: id,
  after,
  column,
  asks: '',
});

describe('the drawing of an order', () => {
  it('puts what comes later to the right, and what goes side by side below one another', () => {
    const found = drawing([stage('a', 0), stage('b', 0), stage('c', 1, ['a', 'b'])]);
    expect(found.boxes.map((box) => [box.x > WIDE, box.y > HIGH])).toEqual([
      [false, false],
      [false, true],
      [true, false],
    ]);
    expect(found.lines.map((line) => line.key)).toEqual(['a c', 'b c']);
    expect(found.width).toBeGreaterThan(2 * WIDE);
  });
  it('is nothing for a kit without an order, and leaves unknown ones out', () => {
    expect(drawing([]).boxes).toEqual([]);
    expect(drawing([stage('a', 0, ['gone'])]).lines).toEqual([]);
  });
});

describe('the place of a fault', () => {
  it('is found in the text', () => {
    expect(offsetOf('one\ntwo\nthree', placeOf('line 2, column 3'))).toBe(6);
    expect(offsetOf('one', placeOf('line 9, column 1'))).toBe(3);
    expect(placeOf('somewhere')).toEqual({ line: 1, column: 1 });
  });
});
