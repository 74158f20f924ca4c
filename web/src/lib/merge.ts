/** Laying an answer that only tells what changed over the plan the page has. Pure. */
import type { NodeView, PlanView } from './api/types';

export function merged(old: PlanView | null, answer: PlanView): PlanView {
  if (!answer.since || !old) return answer;
  const out: PlanView = { ...answer };
  for (const name of answer.same ?? [])
    (out as unknown as Record<string, unknown>)[name] = (old as unknown as Record<string, unknown>)[
      name
    ];
  const known = new Map(old.nodes.map((node) => [node.id, node]));
  for (const change of answer.nodes) {
    const before = known.get(change.id);
    // A node of which only cells changed comes with its id and those cells.
    known.set(
      change.id,
      before && change.name === undefined
        ? { ...before, cells: { ...before.cells, ...change.cells } }
        : change,
    );
  }
  const order = answer.order?.length ? answer.order : old.nodes.map((node) => node.id);
  out.nodes = order
    .map((id) => known.get(id))
    .filter((node): node is NodeView => node !== undefined);
  return out;
}
