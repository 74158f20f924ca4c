import { expect, test } from 'vitest';
import type { RunDelta, RunView, StepView } from '../../lib/api/types';
import { applied } from './changes';

const step = (key: string, state: string) =>
  ({ key, state, start_s: 0, end_s: 5 }) as unknown as StepView;
const event = (id: number) => ({ id, at: id, step: 'a', kind: 'done', payload: {} });
const run = {
  state: 'running',
  last_event: 4,
  steps: [step('a', 'working'), step('b', 'planned')],
  nodes: [{ id: 'n', name: 'one' }],
  proofs: [],
  attempts: [],
  events: [event(3), event(4)],
} as unknown as RunView;
const delta = (more: object) =>
  ({
    state: 'running',
    last_event: 6,
    since: 4,
    steps: [],
    slots: {},
    events: [],
    nodes: [],
    proofs: null,
    attempts: null,
    ...more,
  }) as unknown as RunDelta;

test('what changed is replaced, all else stays', () => {
  const found = applied(
    run,
    delta({
      state: 'held',
      steps: [step('a', 'done')],
      slots: { b: { start_s: 7, end_s: 9 } },
      events: [event(4), event(5), event(6)],
    }),
  );
  expect(found?.state).toBe('held');
  expect(found?.steps.map((one) => [one.key, one.state, one.start_s])).toEqual([
    ['a', 'done', 0],
    ['b', 'planned', 7],
  ]);
  expect(found?.events.map((one) => one.id)).toEqual([3, 4, 5, 6]);
  expect(found?.nodes).toBe(run.nodes);
  expect(found?.last_event).toBe(6);
});

test('a gap asks for the whole run, an old change changes nothing', () => {
  expect(applied(run, delta({ since: 5 }))).toBeNull();
  expect(applied(run, delta({ since: 1, last_event: 3 }))).toBe(run);
});

test('a page keeps a bounded tail of the journal', () => {
  const many = Array.from({ length: 900 }, (_, i) => event(i + 5));
  expect(applied(run, delta({ events: many, last_event: 904 }))?.events).toHaveLength(400);
});
