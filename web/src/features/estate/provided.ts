/** Which hosts carry which network over which interface, alike ones together. Pure; O(hosts × networks). */
import type { EstateView, HostView } from '../../lib/api/types';

export type CarryState = 'carried' | 'down' | 'asleep' | 'inner' | 'absent';
export interface Cell {
  state: CarryState;
  port: string;
  vlan: number;
  mtu: number;
  address: boolean;
  odd: boolean;
}
export interface Row {
  hosts: string[];
  cells: Cell[];
}
export interface BayRows {
  bay: string;
  rows: Row[];
  hosts: number;
  gaps: number;
}
export interface Carrying {
  networks: { name: string; vlan: number | null; described: boolean }[];
  bays: BayRows[];
}

export function carrying(estate: Pick<EstateView, 'hosts' | 'networks'>): Carrying {
  const described = new Map(estate.networks.map((n) => [n.name, n]));
  const names = [
    ...new Set([
      ...described.keys(),
      ...estate.hosts.flatMap((h) =>
        (h.carries ?? []).filter((c) => !c.isolated).map((c) => c.network),
      ),
    ]),
  ];
  const bays = new Map<string, HostView[]>();
  for (const host of estate.hosts) {
    const key = `${host.site} · ${host.bay}`;
    bays.set(key, [...(bays.get(key) ?? []), host]);
  }
  const done: BayRows[] = [];
  for (const [bay, hosts] of bays) {
    const usual = names.map(
      (name) => hosts.filter((h) => cellOf(h, name).state === 'carried').length * 2 > hosts.length,
    );
    const sizes = names.map((name) =>
      most(
        hosts
          .map((h) => (h.carries ?? []).find((c) => c.network === name)?.mtu ?? 0)
          .filter(Boolean),
      ),
    );
    const rows = new Map<string, Row>();
    for (const host of hosts) {
      const cells = names.map((name, i) => {
        const cell = cellOf(host, name);
        return {
          ...cell,
          odd:
            (usual[i]! && cell.state !== 'carried') ||
            (cell.mtu > 0 && sizes[i]! > 0 && cell.mtu !== sizes[i]),
        };
      });
      const key = JSON.stringify(
        cells.map((c) => [c.state, c.port, c.vlan, c.mtu, c.odd, c.address]),
      );
      const row = rows.get(key);
      if (row) row.hosts.push(host.name);
      else rows.set(key, { hosts: [host.name], cells });
    }
    done.push({
      bay,
      rows: [...rows.values()].sort(
        (a, b) =>
          Number(b.cells.some((c) => c.odd)) - Number(a.cells.some((c) => c.odd)) ||
          b.hosts.length - a.hosts.length,
      ),
      hosts: hosts.length,
      gaps: hosts.filter((h) => names.some((n, i) => usual[i] && cellOf(h, n).state !== 'carried'))
        .length,
    });
  }
  return {
    networks: names.map((name) => ({
      name,
      vlan: described.get(name)?.vlan ?? null,
      described: described.has(name),
    })),
    bays: done,
  };
}

type Carried = NonNullable<HostView['carries']>[number];

function stateOf(network: Carried): CarryState {
  if (!network.active) return 'asleep';
  if (network.isolated) return 'inner';
  const isDown = network.ports.length > 0 && !network.ports.some((p) => p.link);
  return isDown ? 'down' : 'carried';
}

function cellOf(host: HostView, name: string): Cell {
  const c = (host.carries ?? []).find((one) => one.network === name);
  if (!c) return { state: 'absent', port: '', vlan: 0, mtu: 0, address: false, odd: false };
  const port = c.ports[0];
  return {
    state: stateOf(c),
    port: port?.name ?? c.bridge,
    vlan: port?.vlan ?? 0,
    mtu: c.mtu,
    address: c.address !== '',
    odd: false,
  };
}

function most(values: number[]): number {
  const counts = new Map<number, number>();
  for (const v of values) counts.set(v, (counts.get(v) ?? 0) + 1);
  return [...counts].sort((a, b) => b[1] - a[1] || b[0] - a[0])[0]?.[0] ?? 0;
}
