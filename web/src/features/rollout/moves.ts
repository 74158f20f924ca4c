/** What it means to put a node, or one of its disks, elsewhere on the wall. Pure. */
import type { Edit, PlanView } from '../../lib/api/types';
import { nodeOf, type Claimed, type Part, type Place as WallPlace } from '../wall/wall';

export function moved(plan: PlanView, part: Part, to: WallPlace): Edit[] {
  const node = nodeOf(part);
  const set = (column: string, value: string | null): Edit => ({
    path: ['nodes', node, column],
    value,
  });
  if (!to.store) return [set('host', to.name), set('datastore', null)];
  const host = plan.nodes.find((one) => one.id === node)?.host;
  // a datastore that is local to another host takes the node there
  const first = to.on && host !== to.on ? [set('host', to.on)] : [];
  return [...first, set(part.column ?? 'datastore', to.store)];
}

/** Nodes that stand on bare machines and that the next run removes: until then their machines are not free. */
export function leavingMachines(plan: PlanView): Claimed[] {
  const stay = new Set(plan.nodes.map((node) => node.id));
  const gone = (plan.changes?.removes ?? []).filter((one) => one.on_machine && !stay.has(one.node));
  return gone.map((one) => ({
    plan: plan.id,
    run: one.run ?? '',
    name: one.name,
    host: one.host,
    memory_bytes: plan.hosts.find((host) => host.name === one.host)?.memory_bytes ?? 0,
    leaves: true,
  }));
}
