import { expect, it } from 'vitest';
import type { PlanLine } from '../../lib/api/types';
import { isReady, listed, stateOf, turned } from './list';

function plan(id: string, nodes: number, changed: number): PlanLine {
  return {
    id,
    title: id.toUpperCase(),
    version: 1,
    changed_at: changed,
    kit: 'gauge-collector',
    bay: id === 'b' ? 'ness-two' : 'kelda-main',
    nodes,
    trouble: '',
    blockers: null,
    drift: 0,
    run: null,
  };
}
const plans = [plan('b', 3, 1), plan('a', 30, 3), plan('c', 3, 2)];
const ids = (found: PlanLine[]) => found.map((p) => p.id);

it('filters by every word typed, wherever it stands', () => {
  expect(ids(listed(plans, 'NESS not', { by: 'title', down: false }))).toEqual(['b']);
  expect(ids(listed(plans, 'nowhere', { by: 'title', down: false }))).toEqual([]);
});

it('orders by any column, numbers as numbers, equals as they were', () => {
  expect(ids(listed(plans, '', { by: 'title', down: false }))).toEqual(['a', 'b', 'c']);
  expect(ids(listed(plans, '', { by: 'nodes', down: true }))).toEqual(['a', 'b', 'c']);
  expect(ids(listed(plans, '', { by: 'changed', down: true }))).toEqual(['a', 'c', 'b']);
});

it('orders names as people count: 2 before 10', () => {
  const groups = ['g10', 'g2', 'g1'].map((id) => plan(id, 1, 1));
  expect(ids(listed(groups, '', { by: 'title', down: false }))).toEqual(['g1', 'g2', 'g10']);
  expect(ids(listed(groups, '', { by: 'title', down: true }))).toEqual(['g10', 'g2', 'g1']);
});

it('turns a column round, and begins another upwards, times with the newest', () => {
  expect(turned({ by: 'title', down: false }, 'title')).toEqual({ by: 'title', down: true });
  expect(turned({ by: 'title', down: true }, 'bay')).toEqual({ by: 'bay', down: false });
  expect(turned({ by: 'title', down: true }, 'changed')).toEqual({ by: 'changed', down: true });
});

it('tells ready plans from blocked ones', () => {
  const [one] = plans as [PlanLine];
  expect([stateOf(one), isReady(one)]).toEqual(['not deployed', false]);
  expect(stateOf({ ...one, blockers: 1 })).toBe('blocked: 1 blocker');
  expect([stateOf({ ...one, blockers: 0 }), isReady({ ...one, blockers: 0 })]).toEqual([
    'ready to run',
    true,
  ]);
});
