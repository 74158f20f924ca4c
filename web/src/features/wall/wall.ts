/** Where everything in the wall stands. Pure: hosts, nodes and a size in, shapes out. Lengths in pixels, memory in bytes. */
import type { ClaimView, HostView, NodeView } from '../../lib/api/types';

export interface Block { id: string; label: string; memory: number; x: number; y: number; w: number; h: number }
export interface Stone extends Block { node: NodeView; path: string }
export interface Ghost extends Block { planned: boolean }
export interface Column { ghosts: Ghost[]; host: HostView; x: number; w: number; top: number; base: number; limit: number; bedrock: Block[]; stones: Stone[]; free: number; dense: boolean }
export interface Group { name: string; x: number; w: number; y: number }
export interface Picture { columns: Column[]; groups: Group[]; height: number; dense: boolean }

/** What the heights of a wall stand for: each host's whole and what may be given, what stands there already, what nodes take. */
export type Reading = 'memory' | 'vcpu' | 'disk' | 'networks';
export const READINGS: [Reading, string][] = [['memory', 'memory'], ['vcpu', 'vCPU'], ['disk', 'disk when full'], ['networks', 'networks']];

/** Hosts and nodes measured by a reading, in the fields the layout reads as memory. vCPUs count 2^30 each, so that figures read alike. */
export function measured(hosts: HostView[], nodes: NodeView[], reading: Reading): { hosts: HostView[]; nodes: NodeView[] } {
  if (reading === 'memory' || reading === 'networks') return { hosts, nodes };
  if (reading === 'vcpu') return {
    hosts: hosts.map((host) => ({ ...host, memory_bytes: host.threads * 4 * 2 ** 30, limit_bytes: host.threads * 2 ** 30, bedrock: host.bedrock.map((guest) => ({ ...guest, memory_bytes: (guest.vcpu ?? 0) * 2 ** 30 })) })),
    nodes: nodes.map((node) => ({ ...node, memory_bytes: node.vcpu * 2 ** 30 })),
  };
  return {
    hosts: hosts.map((host) => {
      const whole = host.stores.reduce((sum, store) => sum + store.capacity_bytes, 0), free = host.stores.reduce((sum, store) => sum + store.free_bytes, 0);
      return { ...host, memory_bytes: whole, limit_bytes: whole * 0.9, bedrock: whole > free ? [{ name: 'in use', memory_bytes: whole - free, ours: false, vcpu: 0 }] : [] };
    }),
    nodes: nodes.map((node) => ({ ...node, memory_bytes: node.full_bytes })),
  };
}

const HEAD = 20, FOOT = 38, GAP = 10, GROUP_GAP = 34, WIDEST = 236, NARROWEST = 7;

export function layout(hosts: HostView[], nodes: NodeView[], width: number, height: number, claims: ClaimView[] = []): Picture {
  const taken = new Map<string, ClaimView[]>();
  for (const claim of claims) taken.set(claim.host, [...(taken.get(claim.host) ?? []), claim]);
  const bays = [...new Set(hosts.map((host) => `${host.site} · ${host.bay}`))];
  const rows = Math.max(1, Math.ceil(((NARROWEST + 1) * hosts.length + GROUP_GAP * bays.length) / Math.max(1, width)));
  const perRow = Math.ceil(hosts.length / rows);
  const room = width - GROUP_GAP * Math.max(0, bays.length - 1);
  const step = Math.min(WIDEST + GAP, room / Math.max(1, perRow));
  const gap = step > 40 ? GAP : step > 14 ? 2 : 1;
  const w = Math.max(4, step - gap), dense = w < 62;
  const rowHeight = (height - HEAD) / rows, foot = dense ? 6 : FOOT, high = rowHeight - foot - (rows > 1 ? 4 : 0);
  const most = Math.max(1, ...hosts.map((host) => host.memory_bytes));
  const byHost = new Map<string, NodeView[]>();
  for (const node of nodes) byHost.set(node.host, [...(byHost.get(node.host) ?? []), node]);
  const columns: Column[] = [], groups: Group[] = [];
  let x = 0, row = 0, inRow = 0, bay = '';
  for (const host of hosts) {
    const name = `${host.site} · ${host.bay}`;
    if (inRow >= perRow) { row++; inRow = 0; x = 0; }
    if (name !== bay) {
      if (inRow) x += GROUP_GAP;
      if (!groups.some((group) => group.y === row * rowHeight + 12 && x - group.x < 90)) groups.push({ name, x, w: 0, y: row * rowHeight + 12 });
      bay = name;
    }
    const base = HEAD + (row + 1) * rowHeight - foot;
    columns.push(column(host, byHost.get(host.name) ?? [], taken.get(host.name) ?? [], x, w, base, high, most, dense));
    const last = groups.at(-1);
    if (last) last.w = x + w - last.x;
    x += step;
    inRow++;
  }
  return { columns, groups, height, dense };
}

function column(host: HostView, nodes: NodeView[], claims: ClaimView[], x: number, w: number, base: number, high: number, most: number, dense: boolean): Column {
  const tall = Math.max(4, (high * host.memory_bytes) / most), scale = tall / Math.max(1, host.memory_bytes);
  const inset = dense ? 1 : 3;
  const least = dense ? 3 : 19;
  const wanted = [...host.bedrock.map((g) => Math.max(dense ? 1 : 2, g.memory_bytes * scale)), ...claims.map((one) => Math.max(dense ? 1 : 2, one.memory_bytes * scale)), ...nodes.map((n) => Math.max(least, n.memory_bytes * scale))];
  const total = wanted.reduce((a, b) => a + b, 0), squeeze = total > tall ? tall / total : 1;
  let y = base, i = 0;
  const bedrock: Block[] = [], stones: Stone[] = [];
  for (const guest of host.bedrock) {
    const h = (wanted[i++] ?? 0) * squeeze;
    y -= h;
    bedrock.push({ id: guest.name, label: guest.name, memory: guest.memory_bytes, x: x + 1, y, w: w - 2, h });
  }
  const ghosts: Ghost[] = [];
  for (const claim of claims) {
    const h = (wanted[i++] ?? 0) * squeeze;
    y -= h;
    ghosts.push({ id: `${claim.plan}/${claim.name}`, label: claim.name, memory: claim.memory_bytes, planned: !claim.run, x: x + inset, y, w: w - 2 * inset, h });
  }
  for (const node of nodes) {
    const h = (wanted[i++] ?? 0) * squeeze;
    y -= h;
    const block = { id: node.id, label: node.short, memory: node.memory_bytes, x: x + inset, y: y + 1, w: w - 2 * inset, h: Math.max(1.5, h - 2) };
    stones.push({ ...block, node, path: stonePath(block, node.id) });
  }
  const used = [...host.bedrock, ...nodes].reduce((sum, one) => sum + one.memory_bytes, 0);
  return { ghosts, host, x, w, top: base - tall, base, limit: base - host.limit_bytes * scale, bedrock, stones, free: Math.max(0, host.memory_bytes - used), dense };
}

/** A block with its corners cut, each a little differently, always the same for the same node. */
export function stonePath(b: { x: number; y: number; w: number; h: number }, id: string): string {
  let seed = 7;
  for (const letter of id) seed = (seed * 31 + letter.charCodeAt(0)) % 9973;
  const most = Math.min(7, b.h / 2.6, b.w / 4);
  const cut = (n: number) => most * (0.45 + (((seed >> n) * 37) % 55) / 100);
  const [a, c, d, e] = [cut(0), cut(2), cut(4), cut(6)];
  const r = b.x + b.w, f = b.y + b.h;
  return `M${b.x + a} ${b.y}H${r - c}L${r} ${b.y + c}V${f - d}L${r - d} ${f}H${b.x + e}L${b.x} ${f - e}V${b.y + a}Z`;
}
