import { describe, expect, it } from 'vitest';
import type { RunView, StepView } from '../../lib/api/types';
import { reachOf, rowsOf, spanOf, ticksOf } from './timeline';

const step = (more: Partial<StepView>): StepView =>
  ({
    key: 'k',
    kind: 'boot',
    label: 'Boot',
    node: 'a',
    state: 'planned',
    start_s: 5,
    end_s: 9,
    ...more,
  }) as StepView;
const run = (steps: StepView[], more: Partial<RunView> = {}): RunView =>
  ({
    started_at: 100,
    ended_at: null,
    undone_at: null,
    state: 'running',
    nodes: [{ id: 'a', name: 'west-a', role_index: 1 }],
    steps,
    ...more,
  }) as RunView;

describe('the time line', () => {
  it('has a row a node and one for each thing they share', () => {
    const steps = [
      step({}),
      step({ node: '', kind: 'carry', label: 'Copy image to kelda-shared' }),
      step({ node: '', kind: 'call', label: 'Form cluster' }),
    ];
    const rows = rowsOf(run(steps), new Map(), {});
    expect(rows.map((row) => row.name)).toEqual(['west-a', 'kelda-shared', 'cluster']);
  });
  it('shows what is expected, what lasts, and what has ended', () => {
    const whole = run([]);
    expect(spanOf(step({}), whole, 20)).toEqual({ from: 5, to: 9, room: 9 });
    const works = step({ state: 'waiting', started_at: 110, expected_s: 30 });
    expect(spanOf(works, whole, 20)).toEqual({ from: 10, to: 20, room: 40 });
    const done = step({ state: 'done', started_at: 110, ended_at: 114 });
    expect(spanOf(done, whole, 20)).toEqual({ from: 10, to: 14, room: 14 });
  });
  it('writes no more times than fit', () => {
    expect(ticksOf(150, 260)).toEqual([0, 120]);
    expect(ticksOf(60, 40)).toEqual([0, 60]);
  });
  it('writes at most eight round times', () => {
    expect(ticksOf(60, 900)).toEqual([0, 10, 20, 30, 40, 50, 60]);
    expect(ticksOf(100_000, 900).length).toBeLessThanOrEqual(8);
    expect(reachOf(run([step({})]), 2)).toBe(10);
  });
});
