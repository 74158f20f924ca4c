import { expect, test } from 'vitest';
import { extent, overs, round, type Chart } from './series';

const chart = (values: number[], more: Partial<Chart> = {}): Chart => ({
  values,
  median: values[0] ?? 0,
  unit: 'ms',
  ...more,
});

test('a scale holds all values, and a limit that is near', () => {
  expect(extent([chart([3, 9]), chart([12])])).toBe(12);
  expect(extent([chart([3, 9], { most: 20 })])).toBe(20);
  expect(extent([chart([3, 9], { worst: 2000 })])).toBe(9);
  expect(extent([chart([0])])).toBe(1);
});

test('a median or a single value above its limit is over', () => {
  expect(overs(chart([5, 9]))).toBe(false);
  expect(overs(chart([5, 9], { most: 4 }))).toBe(true);
  expect(overs(chart([5, 9], { most: 6, worst: 8 }))).toBe(true);
  expect(overs(chart([5, 9], { most: 6, worst: 9 }))).toBe(false);
});

test('numbers keep 3 digits', () => {
  expect(round(12.345)).toBe('12.3');
  expect(round(0.00123456)).toBe('0.00123');
  expect(round(5)).toBe('5');
});
