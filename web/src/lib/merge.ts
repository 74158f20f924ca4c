/** What changed in a plan, applied to the plan that the page has. Pure. */
import type { NodeView, PlanDelta, PlanView } from './api/types';

type Changed = PlanDelta['nodes'][number];

const isWhole = (node: Changed): node is NodeView => 'name' in node;

export function merged(old: PlanView | null, answer: PlanView | PlanDelta): PlanView {
  if (!('since' in answer)) return answer;
  if (!old) throw new Error('a plan that is not known cannot be changed');
  const { nodes, order, since: _, ...rest } = answer;
  const known = new Map(old.nodes.map((node) => [node.id, node]));
  for (const change of nodes) {
    const before = known.get(change.id);
    if (isWhole(change)) known.set(change.id, change);
    else if (before)
      known.set(change.id, { ...before, cells: { ...before.cells, ...change.cells } });
  }
  const ids = order ?? old.nodes.map((node) => node.id);
  return {
    ...old,
    ...rest,
    bays: answer.bays ?? old.bays,
    licence_text: answer.licence_text ?? old.licence_text,
    columns: answer.columns ?? old.columns,
    hosts: answer.hosts ?? old.hosts,
    waves: answer.waves ?? old.waves,
    way: answer.way ?? old.way,
    nodes: ids.map((id) => known.get(id)).filter((node) => node !== undefined),
  };
}
