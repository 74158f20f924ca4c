/** From a run's steps to what each node's stone shows. Pure. */
import type { RunView, StepView } from '../../lib/api/types';
import { count, inside } from '../../lib/format';
import type { Mark } from '../../lib/ui/marks';
import { type Outcome, outcomeOf, together } from './verdicts';

export interface NodeState {
  mark: Mark;
  share: number;
  text: string;
}

export function nodeStates(
  run: RunView,
  progress: Record<string, { sent?: number; total?: number; words?: string }>,
): Map<string, NodeState> {
  const by = new Map<string, StepView[]>();
  for (const step of run.steps) by.set(step.node, [...(by.get(step.node) ?? []), step]);
  const proofs = new Map<string, Outcome>();
  for (const verdict of run.proofs)
    proofs.set(verdict.node, together([proofs.get(verdict.node) ?? 'passed', outcomeOf(verdict)]));
  const found = new Map<string, NodeState>();
  for (const [node, steps] of by) found.set(node, stateOf(steps, run, progress, proofs.get(node)));
  if (run.change) withOthers(found, run, by, proofs);
  return found;
}

/** Kinds of steps with which the work on a node that stands begins. */
const CHANGES = ['swap', 'move', 'resize', 'grow', 'change', 'reconfigure', 'leave', 'retire'];

/** In a change of what is deployed: nodes whose turn has not come, nodes that stay as they are, and those that are removed for good. */
function withOthers(
  found: Map<string, NodeState>,
  run: RunView,
  by: Map<string, StepView[]>,
  proofs: Map<string, Outcome>,
) {
  const { adds, removes, resizes = [], upgrades = [] } = run.change!;
  const stood = [...resizes, ...upgrades, ...removes.filter((id) => adds.includes(id))];
  for (const { id } of run.nodes) {
    const own = by.get(id) ?? [];
    const begun = own.some((step) => CHANGES.includes(step.kind) && step.state !== 'planned');
    if (stood.includes(id) && !begun && !own.some((step) => step.state === 'failed'))
      found.set(id, { mark: 'done', share: 1, text: 'deployed, waits for its turn' });
    const gone = by.get(id)?.some((step) => step.kind === 'retire' && step.state === 'done');
    if (removes.includes(id) && !adds.includes(id)) {
      if (gone) found.set(id, { mark: 'undone', share: 0, text: 'removed' });
    } else if (![adds, resizes, upgrades].some((one) => one.includes(id)))
      found.set(id, unchanged(proofs.get(id)));
  }
}

function unchanged(checks?: Outcome): NodeState {
  if (checks === 'failed')
    return { mark: 'failed', share: 1, text: 'deployed, unchanged, checks failed' };
  if (checks === 'passed') return { mark: 'proved', share: 1, text: 'deployed, unchanged' };
  return { mark: 'done', share: 1, text: 'deployed, unchanged' };
}

export function stateOf(
  steps: StepView[],
  run: RunView,
  progress: Record<string, { sent?: number; total?: number; words?: string }>,
  checks?: Outcome,
): NodeState {
  const total = steps.reduce((sum, s) => sum + s.expected_s, 0) || 1;
  const finished = steps.filter((s) => s.state === 'done' || s.state === 'skipped');
  const share = finished.reduce((sum, s) => sum + s.expected_s, 0) / total;
  const failed = steps.find((s) => s.state === 'failed');
  const active = steps.filter((s) => s.state === 'working' || s.state === 'undoing').at(-1);
  const waiting = steps.find((s) => s.state === 'waiting');
  const sent = active ? progress[active.key] : undefined;
  if (failed && (run.state !== 'undoing' || failed.undo_failed))
    return {
      mark: 'failed',
      share,
      text: failed.undo_failed ? 'rollback failed' : `${inside(failed.label)} failed`,
    };
  if (run.state === 'undone') return { mark: 'undone', share: 0, text: 'rolled back' };
  if (run.state === 'undoing')
    return {
      mark: steps.every((s) => s.state === 'undone' || s.state === 'planned')
        ? 'undone'
        : 'working',
      share,
      text: 'rolling back',
    };
  if (finished.length === steps.length) {
    const skipped = finished.filter((s) => s.state === 'skipped').length;
    const deployed = skipped ? `deployed, ${count(skipped, 'step')} skipped` : 'deployed';
    if (checks === undefined)
      return {
        mark: skipped ? 'skipped' : 'done',
        share: 1,
        text: skipped ? deployed : 'deployed, not checked yet',
      };
    if (checks === 'open') return { mark: 'done', share: 1, text: `${deployed}, not all checked` };
    if (checks === 'failed')
      return { mark: 'failed', share: 1, text: `${deployed}, checks failed` };
    return { mark: skipped ? 'skipped' : 'proved', share: 1, text: `${deployed}, checks passed` };
  }
  if (active)
    return {
      mark: 'working',
      share,
      text: `${inside(active.label)}${sent?.total ? `, ${Math.round((100 * (sent.sent ?? 0)) / sent.total)} %` : ''}`,
    };
  if (waiting?.kind === 'install') {
    const words = progress[waiting.key]?.words;
    return { mark: 'waiting', share, text: words ? `installing: ${words}` : 'installing' };
  }
  if (waiting) return { mark: 'waiting', share, text: `waiting for ${inside(waiting.label)}` };
  const planned = steps.find((s) => s.state === 'planned');
  if (run.state === 'held')
    return {
      mark: 'held',
      share,
      text: planned ? `on hold; next: ${inside(planned.label)}` : 'on hold',
    };
  let text = planned && share ? `next: ${inside(planned.label)}` : 'queued';
  if (planned?.queued) text = `queued: ${planned.queued}`;
  return { mark: 'planned', share, text };
}
