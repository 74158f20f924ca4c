/** From a run's steps to what each node's stone shows. Pure. */
import type { RunView, StepView } from '../../lib/api/types';
import { inside } from '../../lib/format';
import type { Mark } from '../../lib/ui/marks';

export interface NodeState { mark: Mark; share: number; text: string }

export function nodeStates(run: RunView, progress: Record<string, { sent?: number; total?: number }>): Map<string, NodeState> {
  const by = new Map<string, StepView[]>();
  for (const step of run.steps) by.set(step.node, [...(by.get(step.node) ?? []), step]);
  const proofs = new Map<string, boolean>();
  for (const verdict of run.proofs) proofs.set(verdict.node, (proofs.get(verdict.node) ?? true) && verdict.passed);
  const found = new Map<string, NodeState>();
  for (const [node, steps] of by) found.set(node, stateOf(steps, run, progress, proofs.get(node)));
  return found;
}

export function stateOf(steps: StepView[], run: RunView, progress: Record<string, { sent?: number; total?: number }>, proved?: boolean): NodeState {
  const total = steps.reduce((sum, s) => sum + s.expected_s, 0) || 1;
  const finished = steps.filter((s) => s.state === 'done' || s.state === 'skipped');
  const share = finished.reduce((sum, s) => sum + s.expected_s, 0) / total;
  const failed = steps.find((s) => s.state === 'failed');
  const active = steps.filter((s) => s.state === 'working' || s.state === 'undoing').at(-1);
  const waiting = steps.find((s) => s.state === 'waiting');
  const sent = active ? progress[active.key] : undefined;
  if (failed) return { mark: 'failed', share, text: `${inside(failed.label)} failed` };
  if (run.state === 'undone') return { mark: 'undone', share: 0, text: 'taken back' };
  if (run.state === 'undoing') return { mark: steps.every((s) => s.state === 'undone' || s.state === 'planned') ? 'undone' : 'working', share, text: 'being taken back' };
  if (finished.length === steps.length) {
    if (proved === undefined) return { mark: 'done', share: 1, text: 'stands' };
    return proved ? { mark: 'proved', share: 1, text: 'proved' } : { mark: 'failed', share: 1, text: 'not all proved' };
  }
  if (active) return { mark: 'working', share, text: `${inside(active.label)}${sent?.total ? `, ${Math.round((100 * (sent.sent ?? 0)) / sent.total)} %` : ''}` };
  if (waiting) return { mark: 'waiting', share, text: `${inside(waiting.label)} awaited` };
  const planned = steps.find((s) => s.state === 'planned');
  if (run.state === 'held') return { mark: 'held', share, text: 'held by you' };
  return { mark: 'planned', share, text: planned && share ? `${inside(planned.label)} comes next` : 'its turn comes' };
}
