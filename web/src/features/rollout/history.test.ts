import { describe, expect, it } from 'vitest';
import type { HistoryEntry } from '../../lib/api/types';
import { byDay, dayOf, endOf } from './history';

const entry = (at: number): HistoryEntry => ({
  at,
  kind: 'run',
  words: `at ${at}`,
  run: '',
  node: '',
  detail: '',
});

describe('the history by day', () => {
  it('keeps the order, and makes a day of what lies in one', () => {
    const noon = 1_790_000_000 - (1_790_000_000 % 86_400) + 43_200;
    const days = byDay([entry(noon + 3600), entry(noon), entry(noon - 86_400)]);
    expect(days.map((day) => day.entries.length)).toEqual([2, 1]);
    expect(days[0]?.entries.map((one) => one.at)).toEqual([noon + 3600, noon]);
    expect(byDay([])).toEqual([]);
  });
  it('means a day with its evening, in UTC', () => {
    expect(dayOf(endOf('2026-11-30'))).toBe('2026-11-30');
    expect(dayOf(endOf('2026-11-30') + 1)).toBe('2026-12-01');
  });
});
