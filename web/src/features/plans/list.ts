/** The list of plans: filtered by what is typed, ordered by a column. Pure. */
import type { PlanLine } from '../../lib/api/types';
import { count } from '../../lib/format';

export type Column = 'title' | 'state' | 'kit' | 'bay' | 'nodes' | 'changed';
export interface Order {
  by: Column;
  down: boolean;
}

/** How a plan stands, in the words of the list. */
export function stateOf(plan: PlanLine): string {
  if (plan.run && plan.run.state !== 'undone') {
    const ended = ['done', 'unproved'].includes(plan.run.state);
    const differs = ended && plan.drift ? `, ${count(plan.drift, 'difference')} found` : '';
    return plan.run.words.plans + differs;
  }
  const before = plan.run ? 'rolled back, ' : '';
  if (plan.trouble) return before + plan.trouble;
  if (plan.blockers === null) return `${before}not deployed`;
  const ready = plan.blockers ? `blocked: ${count(plan.blockers, 'blocker')}` : 'ready to run';
  return before + ready;
}

/** Whether a plan can be run: nothing of it is deployed, and no blocker is known. */
export const isReady = (plan: PlanLine): boolean =>
  plan.blockers === 0 && !plan.trouble && (!plan.run || plan.run.state === 'undone');

/** Whether a plan can be deleted: nothing that a run built from it exists. */
export const isFree = (plan: PlanLine): boolean => !plan.run || plan.run.state === 'undone';

function key(plan: PlanLine, by: Column): string | number {
  const keys: Record<Column, string | number> = {
    title: plan.title.toLowerCase(),
    state: stateOf(plan),
    kit: plan.kit,
    bay: plan.bay,
    nodes: plan.nodes,
    changed: plan.changed_at,
  };
  return keys[by];
}

/** Plans that contain every word typed, in order; those that are equal keep the order they had. */
export function listed(plans: PlanLine[], typed: string, order: Order): PlanLine[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const found = plans.filter((plan) => {
    const text = `${plan.title} ${plan.id} ${stateOf(plan)} ${plan.kit} ${plan.bay}`.toLowerCase();
    return words.every((word) => text.includes(word));
  });
  const sign = order.down ? -1 : 1;
  return found.sort((a, b) => {
    const left = key(a, order.by),
      right = key(b, order.by);
    if (typeof left === 'number') return sign * (left - Number(right));
    // “Group 2” comes before “Group 10”
    return sign * left.localeCompare(String(right), 'en', { numeric: true });
  });
}

/** The order after a click on a column: the same column turns round, another begins upwards. */
export function turned(order: Order, by: Column): Order {
  return order.by === by ? { by, down: !order.down } : { by, down: by === 'changed' };
}
