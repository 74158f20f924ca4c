/** A host's interfaces as a drawing: from the sockets on its back to the networks guests see. Pure; lengths in pixels. */
import type { OneHost } from '../../lib/api/types';

export interface Spot {
  id: string;
  layer: number;
  label: string;
  note: string;
  kind: string;
  link: boolean;
  x: number;
  y: number;
}
export interface Wire {
  from: Spot;
  to: Spot;
  bad: boolean;
}
export interface Wiring {
  spots: Spot[];
  wires: Wire[];
  width: number;
  height: number;
  layers: { x: number; name: string }[];
}

const NAMES = ['interfaces', 'bonds', 'VLANs', 'bridges', 'networks'],
  ROW = 34,
  HEAD = 20;
export const WIDE = 118;

export function wiring(facts: OneHost['facts'], width: number): Wiring {
  const links = (facts.interfaces ?? []).filter((i) => i.kind !== 'loopback' && i.kind !== 'tap'),
    nets = facts.networks ?? [];
  const layerOf = (kind: string) => ({ bond: 1, vlan: 2, bridge: 3 })[kind] ?? 0;
  const order = new Map<string, number>();
  nets.forEach((n, i) => {
    order.set(`net ${n.name}`, i);
    if (n.bridge) order.set(n.bridge, Math.min(order.get(n.bridge) ?? 1e9, i));
  });
  const follows = (name: string): number => {
    // the place of what stands above it, the highest first
    const own = order.get(name);
    if (own !== undefined) return own;
    const me = links.find((i) => i.name === name),
      above = [me?.master, ...links.filter((i) => i.parent === name).map((i) => i.name)].filter(
        (n): n is string => Boolean(n),
      );
    order.set(name, 1e6); // against rings in what a host says
    const place = above.length
      ? Math.min(...above.map(follows))
      : 1e5 + links.findIndex((i) => i.name === name);
    order.set(name, place);
    return place;
  };
  const raw: Omit<Spot, 'x' | 'y'>[] = [
    ...links.map((i) => ({
      id: i.name,
      layer: layerOf(i.kind ?? ''),
      label: i.name,
      note: [
        i.speed_mbit ? speed(i.speed_mbit) : '',
        i.link ? '' : 'no link',
        (i.addresses ?? [])[0] ?? (i.kind === 'bridge' ? `MTU ${i.mtu}` : ''),
      ]
        .filter(Boolean)
        .join(' · '),
      kind: i.kind ?? 'physical',
      link: i.link ?? false,
    })),
    ...nets.map((n) => ({
      id: `net ${n.name}`,
      layer: 4,
      label: n.name,
      note: noteOf(n.isolated ?? false, n.active ?? false),
      kind: 'network',
      link: n.active ?? true,
    })),
  ];
  const used = [0, 1, 2, 3, 4].filter((layer) => raw.some((s) => s.layer === layer));
  const step = used.length > 1 ? (width - WIDE) / (used.length - 1) : 0;
  const spots: Spot[] = [];
  for (const [at, layer] of used.entries())
    raw
      .filter((s) => s.layer === layer)
      .sort((a, b) => follows(a.id) - follows(b.id))
      .reduce((free, s) => {
        const own = follows(s.id),
          row = Math.max(free, own < nets.length ? own : free); // on the line of the network it leads to, so that no wire runs behind a box
        spots.push({ ...s, x: at * step, y: HEAD + row * ROW });
        return row + 1;
      }, 0);
  const find = (id: string) => spots.find((s) => s.id === id);
  const wires: Wire[] = [];
  const join = (a: string, b: string) => {
    const from = find(a),
      to = find(b);
    if (from && to) wires.push({ from, to, bad: !from.link });
  };
  for (const i of links) {
    if (i.master) join(i.name, i.master);
    if (i.parent) join(i.parent.split('@')[0]!, i.name);
  }
  for (const n of nets) if (n.bridge) join(n.bridge, `net ${n.name}`);
  return {
    spots,
    wires,
    width,
    height: Math.max(HEAD, ...spots.map((s) => s.y)) + ROW,
    layers: used.map((layer, at) => ({ x: at * step, name: NAMES[layer]! })),
  };
}
const speed = (mbit: number) => (mbit >= 1000 ? `${mbit / 1000} Gbit` : `${mbit} Mbit`);

function noteOf(isolated: boolean, active: boolean): string {
  if (isolated) return 'isolated';
  return active ? '' : 'not started';
}
