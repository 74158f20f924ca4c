import { describe, expect, it } from 'vitest';
import type { RunView, StepView } from '../../lib/api/types';
import { nodeStates, stateOf } from './states';

const step = (key: string, state: StepView['state'], expected = 10): StepView => ({
  key,
  kind: 'boot',
  label: 'Boot',
  node: 'lead-1',
  host: 'h',
  wave: 1,
  after: [],
  waits: false,
  expected_s: expected,
  deadline_s: 1,
  start_s: 0,
  end_s: 1,
  state,
  attempt: 1,
  started_at: 1,
  ended_at: null,
  message: '',
  hint: '',
  queued: '',
  undo_failed: false,
  undo_message: '',
});
const run = (
  state: string,
  steps: StepView[],
  proofs: { node: string; passed: boolean; checked?: boolean }[] = [],
): RunView => ({ state, steps, proofs }) as unknown as RunView;

describe('a stone', () => {
  it.each([
    ['running', ['planned', 'planned'], 'planned'],
    ['running', ['done', 'working'], 'working'],
    ['running', ['done', 'waiting'], 'waiting'],
    ['running', ['done', 'failed'], 'failed'],
    ['held', ['done', 'planned'], 'held'],
    ['done', ['done', 'done'], 'done'],
    ['undone', ['undone', 'planned'], 'undone'],
    ['running', ['done', 'skipped'], 'skipped'],
  ] as const)('in a run that is %s with steps %j is %s', (state, steps, wanted) => {
    const all = steps.map((one, i) => step(`s${i}`, one));
    expect(stateOf(all, run(state, all), {}).mark).toBe(wanted);
  });

  it('fills by the expected time of what is done', () => {
    const steps = [step('a', 'done', 30), step('b', 'working', 10)];
    expect(stateOf(steps, run('running', steps), {}).share).toBeCloseTo(0.75);
  });

  it('tells how far a transfer is', () => {
    const steps = [step('a', 'working')];
    expect(stateOf(steps, run('running', steps), { a: { sent: 50, total: 200 } }).text).toBe(
      'boot, 25 %',
    );
  });

  it('is proved only when every proof of its node holds', () => {
    const steps = [step('a', 'done')];
    expect(
      nodeStates(run('done', steps, [{ node: 'lead-1', passed: true }]), {}).get('lead-1')?.mark,
    ).toBe('proved');
    expect(
      nodeStates(
        run('unproved', steps, [
          { node: 'lead-1', passed: true },
          { node: 'lead-1', passed: false },
        ]),
        {},
      ).get('lead-1')?.mark,
    ).toBe('failed');
  });

  it('does not call failed what could not be checked', () => {
    const steps = [step('a', 'done')];
    const open = nodeStates(
      run('unproved', steps, [
        { node: 'lead-1', passed: true },
        { node: 'lead-1', passed: false, checked: false },
      ]),
      {},
    ).get('lead-1');
    expect(open).toMatchObject({ mark: 'done', text: 'deployed, not all checked' });
  });
});
