/** A run's page keeps what it read once and applies what the server says has changed since. */
import type { RunDelta, RunView, StepView } from '../../lib/api/types';

const SHOWN_EVENTS = 400;

/** The run with a change applied; null where changes before it are missing and it is to be read anew. */
export function applied(run: RunView, delta: RunDelta): RunView | null {
  const { since, steps, slots, events, nodes, proofs, attempts, ...head } = delta;
  if (since > run.last_event) return null;
  if (head.last_event < run.last_event) return run;
  const fresh = new Map(steps.map((step) => [step.key, step]));
  const given = new Map(nodes.map((node) => [node.id, node]));
  const known = run.events.at(-1)?.id ?? 0;
  return {
    ...run,
    ...head,
    steps: run.steps.map((step) => moved(step, fresh, slots)),
    nodes: nodes.length ? run.nodes.map((node) => given.get(node.id) ?? node) : run.nodes,
    proofs: proofs ?? run.proofs,
    attempts: attempts ?? run.attempts,
    events: [...run.events, ...events.filter((event) => event.id > known)].slice(-SHOWN_EVENTS),
  };
}

function moved(step: StepView, fresh: Map<string, StepView>, slots: RunDelta['slots']): StepView {
  const slot = slots[step.key];
  return fresh.get(step.key) ?? (slot ? { ...step, ...slot } : step);
}
