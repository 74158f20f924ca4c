/** Where everything in the wall stands. Pure: hosts, nodes and a size in, shapes out. Lengths in pixels, memory in bytes. */
import type { ClaimView, HostView, NodeView, PlanView } from '../../lib/api/types';
import { ago, size } from '../../lib/format';

type StoreLine = PlanView['stores'][number];

export interface Block {
  id: string;
  label: string;
  memory: number;
  x: number;
  y: number;
  w: number;
  h: number;
}
export interface Stone extends Block {
  node: Part;
  path: string;
}
/** What a drive of a bare machine is for: the system, data, something that lies on it, or nothing. */
export type DriveUse = 'system' | 'data' | 'held' | 'free';
export interface DriveBox {
  serial: string;
  use: DriveUse;
  title: string;
  x: number;
  y: number;
  w: number;
  h: number;
}
export interface Ghost extends Block {
  /** Whose it is, and what becomes of it. */
  words: string;
}
/** What else is there or will be: of other plans, or of this one and to be removed by its next run. */
export type Claimed = ClaimView & { leaves?: boolean };
function wordsOf(claim: Claimed): string {
  if (claim.leaves) return 'deployed, the next run removes it';
  return claim.run ? 'created by another run' : 'planned by another plan';
}
/** Names stand across, upright where columns are narrow, and nowhere where they are hairs: there the lens tells them. */
export type Named = 'across' | 'upright' | 'lens';

export interface Column {
  ghosts: Ghost[];
  /** The drives of a bare machine, in a band at its foot. */
  drives: DriveBox[];
  host: Place;
  x: number;
  w: number;
  top: number;
  base: number;
  limit: number;
  bedrock: Block[];
  stones: Stone[];
  free: number;
  dense: boolean;
  /** How its name fits below it. */
  named: Named;
}
export interface Group {
  name: string;
  x: number;
  w: number;
  y: number;
}
export interface Picture {
  columns: Column[];
  groups: Group[];
  height: number;
  dense: boolean;
}

/** What the heights of a wall stand for: each host's whole and what may be given, what stands there already, what nodes take. Datastores are columns of their own. */
export type Reading = 'memory' | 'vcpu' | 'stores' | 'full' | 'networks' | 'impact' | 'age';
export const READINGS: [Reading, string][] = [
  ['memory', 'memory'],
  ['vcpu', 'vCPU'],
  ['stores', 'datastores, now'],
  ['full', 'datastores, when full'],
  ['networks', 'networks'],
  ['impact', 'failure impact'],
  ['age', 'age of facts'],
];

/** A column that is drawn like a host: a host, or a datastore with the sheet's word for it (`store`) and the host it is local to ('' when shared). */
export interface Place extends HostView {
  store?: string;
  on?: string;
  foot?: string;
}
/** A stone: a node, or what of it lies on one datastore (`of`: the node, `column`: where the sheet says so). */
export interface Part extends NodeView {
  of?: string;
  column?: string;
}
export const nodeOf = (part: Part): string => part.of ?? part.id;

/** Hosts and nodes measured by a reading, in the fields the layout reads as memory. vCPUs count 2^30 each, so that figures read alike. */
export function measured(
  hosts: HostView[],
  nodes: NodeView[],
  reading: Reading,
  lines: StoreLine[] = [],
): { hosts: Place[]; nodes: Part[] } {
  if (reading === 'stores' || reading === 'full') return datastores(hosts, nodes, reading, lines);
  if (reading !== 'vcpu') return { hosts, nodes: whole(hosts, nodes, 'memory_bytes') };
  return {
    hosts: hosts.map((host) => ({
      ...host,
      memory_bytes: host.threads * 4 * 2 ** 30,
      limit_bytes: host.threads * 2 ** 30,
      bedrock: host.bedrock.map((guest) => ({
        ...guest,
        memory_bytes: (guest.vcpu ?? 0) * 2 ** 30,
      })),
    })),
    nodes: whole(hosts, nodes, 'threads').map((node) => ({
      ...node,
      memory_bytes: node.vcpu * 2 ** 30,
    })),
  };
}

/** Nodes with what they take: on a bare machine, all of it. */
function whole(hosts: HostView[], nodes: NodeView[], what: 'memory_bytes' | 'threads'): NodeView[] {
  const bare = new Map(hosts.filter((host) => host.bare).map((host) => [host.name, host[what]]));
  if (!bare.size) return nodes;
  const field = what === 'threads' ? 'vcpu' : what;
  return nodes.map((node) => {
    const all = bare.get(node.host);
    return all === undefined ? node : { ...node, [field]: all };
  });
}

/** Every datastore once, shared ones first. A column is as high as what it holds or must hold at worst; its limit is the datastore's capacity. */
function datastores(
  hosts: HostView[],
  nodes: NodeView[],
  reading: 'stores' | 'full',
  lines: StoreLine[],
): { hosts: Place[]; nodes: Part[] } {
  const places = new Map<string, Place>(),
    at = new Map<string, string>();
  const told = new Map(lines.map((line) => [`${line.host}/${line.name}`, line]));
  for (const shared of [true, false])
    for (const host of hosts)
      for (const store of host.stores) {
        if ((store.shared !== '') !== shared) continue;
        const on = shared ? '' : host.name,
          name =
            shared || store.name.startsWith(host.name)
              ? store.name
              : `${store.name} on ${host.name}`,
          line = told.get(`${on}/${store.name}`);
        at.set(`${host.name}/${store.name}`, name);
        if (places.has(name)) continue;
        const used = store.capacity_bytes - store.free_bytes,
          least = used + (line?.[reading === 'full' ? 'full_bytes' : 'thin_bytes'] ?? 0),
          most = used + (line?.full_bytes ?? 0);
        places.set(name, {
          ...host,
          name,
          site: 'Datastores',
          bay: shared ? 'shared' : 'local',
          on,
          store: store.name,
          trouble: host.trouble,
          networks: [],
          memory_bytes: Math.max(store.capacity_bytes, least),
          limit_bytes: store.capacity_bytes,
          bedrock: used > 0 ? [{ name: 'in use', memory_bytes: used, ours: false, vcpu: 0 }] : [],
          foot:
            most > store.capacity_bytes
              ? `${size(most - store.capacity_bytes)} short when full`
              : `${size(store.capacity_bytes - (reading === 'full' ? most : least))} free ${reading === 'full' ? 'when full' : 'after'}`,
        });
      }
  return {
    hosts: [...places.values()],
    nodes: nodes.flatMap((node) =>
      partsOf(node, reading).map((part) => ({
        ...part,
        host: at.get(`${node.host}/${part.host}`) ?? '',
      })),
    ),
  };
}

/** What of a node lies where: its package's disks, and each disk the kit adds. */
function partsOf(node: NodeView, reading: 'stores' | 'full'): Part[] {
  const value = (column: string) => node.cells[column]?.value ?? '',
    whole = value('provisioning') === 'full';
  const extra = Object.keys(node.cells)
    .filter((key) => /^disk\.[^.]+$/.test(key) && node.cells[key]?.origin !== 'unused')
    .map((key) => {
      const many = Number(node.cells[`${key}.count`]?.value || '1');
      return {
        column: `${key}.datastore`,
        full: Number(value(key)) * many * 2 ** 30,
        thin: many * 2 ** 18,
      };
    })
    .filter((one) => one.full > 0 && Number.isFinite(one.full));
  const apart = {
    full: extra.reduce((sum, one) => sum + one.full, 0),
    thin: extra.reduce((sum, one) => sum + one.thin, 0),
  };
  const own = {
    column: 'datastore',
    full: node.full_bytes - apart.full,
    thin: whole ? node.full_bytes - apart.full : node.thin_bytes - apart.thin,
  };
  return [own, ...extra].map((one) => ({
    ...node,
    id: one.column === 'datastore' ? node.id : `${node.id} ${one.column}`,
    of: node.id,
    column: one.column,
    host: value(one.column) || value('datastore'),
    short:
      one.column === 'datastore' ? node.short : `${node.short} ${one.column.split('.')[1] ?? ''}`,
    memory_bytes: Math.max(0, reading === 'full' ? one.full : one.thin),
  }));
}

const HEAD = 20,
  FEET: Record<Named, number> = { across: 38, upright: 66, lens: 6 },
  GAP = 10,
  GROUP_GAP = 34,
  WIDEST = 236,
  NARROWEST = 7;

function namedBy(width: number): Named {
  if (width >= 62) return 'across';
  return width >= 12 ? 'upright' : 'lens';
}

/** How high a wall is: as what it shows needs, and never so high that the sheet below has no room. */
export function wallHeight(hosts: HostView[], nodes: NodeView[], window: number): number {
  const on = new Map<string, number>();
  for (const node of nodes) on.set(node.host, (on.get(node.host) ?? 0) + 1);
  const fullest = Math.max(2, ...on.values());
  const wanted = hosts.length <= 12 ? HEAD + FEET.across + 96 + 24 * fullest : window * 0.4;
  return Math.round(Math.max(170, Math.min(wanted, window * 0.42)));
}

/** What is said below a host, under readings that are told in words. */
export function footOf(
  reading: Reading,
  host: Place,
  told: { losses: { host: string; text: string }[]; now: number },
): string {
  if (reading === 'impact') {
    const text = told.losses.find((one) => one.host === host.name)?.text;
    return text ? `lost: ${text}` : 'no node here';
  }
  if (reading !== 'age') return host.foot ?? '';
  return host.read_at ? `read ${ago(told.now - host.read_at)}` : 'never read';
}

/** Networks that nodes of a plan are on. Cost: O(nodes × columns). */
export function networksOf(nodes: NodeView[]): string[] {
  const found = new Set<string>();
  for (const node of nodes)
    for (const [column, cell] of Object.entries(node.cells))
      if (cell.value && (column === 'network' || column.endsWith('.network')))
        found.add(cell.value);
  return [...found];
}

/** What is said of a host's networks. */
export function networkWords(host: HostView, wanted: string[]): string {
  if (host.bare) return 'by its ports';
  const missing = wanted.filter((one) => !host.networks.includes(one));
  return missing.length
    ? `missing: ${missing.join(', ')}`
    : `has ${wanted.join(', ') || 'all networks'}`;
}

/** Whether a host is to be looked at under a reading that is told in words. */
export function isOdd(reading: Reading, host: Place, now: number): boolean {
  return reading === 'age' && (!host.read_at || now - host.read_at > OLD_S);
}
const OLD_S = 86400;

export function layout(
  hosts: Place[],
  nodes: Part[],
  width: number,
  height: number,
  claims: Claimed[] = [],
): Picture {
  const taken = new Map<string, Claimed[]>();
  for (const claim of claims) taken.set(claim.host, [...(taken.get(claim.host) ?? []), claim]);
  const bays = [...new Set(hosts.map((host) => `${host.site} · ${host.bay}`))];
  const rows = Math.max(
    1,
    Math.ceil(((NARROWEST + 1) * hosts.length + GROUP_GAP * bays.length) / Math.max(1, width)),
  );
  const perRow = Math.ceil(hosts.length / rows);
  const room = width - GROUP_GAP * Math.max(0, bays.length - 1);
  const step = Math.min(WIDEST + GAP, room / Math.max(1, perRow));
  let gap = step > 14 ? 2 : 1;
  if (step > 40) gap = GAP;
  const w = Math.max(4, step - gap),
    dense = w < 62;
  const named = namedBy(w);
  const rowHeight = (height - HEAD) / rows,
    foot = FEET[named],
    high = rowHeight - foot - (rows > 1 ? 4 : 0);
  const most = Math.max(1, ...hosts.map((host) => host.memory_bytes));
  const byHost = new Map<string, Part[]>();
  for (const node of nodes) byHost.set(node.host, [...(byHost.get(node.host) ?? []), node]);
  const columns: Column[] = [],
    groups: Group[] = [];
  let x = 0,
    row = 0,
    inRow = 0,
    bay = '';
  for (const host of hosts) {
    const name = `${host.site} · ${host.bay}`;
    if (inRow >= perRow) {
      row++;
      inRow = 0;
      x = 0;
    }
    if (name !== bay) {
      if (inRow) x += GROUP_GAP;
      if (!groups.some((group) => group.y === row * rowHeight + 12 && x - group.x < 90))
        groups.push({ name, x, w: 0, y: row * rowHeight + 12 });
      bay = name;
    }
    const base = HEAD + (row + 1) * rowHeight - foot;
    columns.push(
      column(
        host,
        byHost.get(host.name) ?? [],
        taken.get(host.name) ?? [],
        x,
        w,
        base,
        high,
        most,
        named,
      ),
    );
    const last = groups.at(-1);
    if (last) last.w = x + w - last.x;
    x += step;
    inRow++;
  }
  return { columns, groups, height, dense };
}

function column(
  host: Place,
  nodes: Part[],
  claims: Claimed[],
  x: number,
  w: number,
  base: number,
  high: number,
  most: number,
  named: Named,
): Column {
  const dense = named !== 'across';
  const tall = Math.max(4, (high * host.memory_bytes) / most),
    scale = tall / Math.max(1, host.memory_bytes);
  const drives = dense ? [] : driveBoxes(host, nodes, x, w, base, tall);
  const band = drives.length ? base - Math.min(...drives.map((one) => one.y)) + DRIVE_GAP : 0;
  const inset = dense ? 1 : 3;
  const least = dense ? 3 : 19;
  const wanted = [
    ...host.bedrock.map((g) => Math.max(dense ? 1 : 2, g.memory_bytes * scale)),
    ...claims.map((one) => Math.max(dense ? 1 : 2, one.memory_bytes * scale)),
    ...nodes.map((n) => Math.max(least, n.memory_bytes * scale)),
  ];
  const total = wanted.reduce((a, b) => a + b, 0),
    room = Math.max(1, tall - band),
    squeeze = total > room ? room / total : 1;
  let y = base - band,
    i = 0;
  const bedrock: Block[] = [],
    stones: Stone[] = [];
  for (const guest of host.bedrock) {
    const h = (wanted[i++] ?? 0) * squeeze;
    y -= h;
    bedrock.push({
      id: guest.name,
      label: guest.name,
      memory: guest.memory_bytes,
      x: x + 1,
      y,
      w: w - 2,
      h,
    });
  }
  const ghosts: Ghost[] = [];
  for (const claim of claims) {
    const h = (wanted[i++] ?? 0) * squeeze;
    y -= h;
    ghosts.push({
      id: `${claim.plan}/${claim.name}`,
      label: claim.name,
      memory: claim.memory_bytes,
      words: wordsOf(claim),
      x: x + inset,
      y,
      w: w - 2 * inset,
      h,
    });
  }
  for (const node of nodes) {
    const h = (wanted[i++] ?? 0) * squeeze;
    y -= h;
    const block = {
      id: node.id,
      label: node.short,
      memory: node.memory_bytes,
      x: x + inset,
      y: y + 1,
      w: w - 2 * inset,
      h: Math.max(1.5, h - 2),
    };
    stones.push({ ...block, node, path: stonePath(block, nodeOf(node)) });
  }
  const used = [...host.bedrock, ...nodes].reduce((sum, one) => sum + one.memory_bytes, 0);
  return {
    ghosts,
    drives,
    host,
    x,
    w,
    top: base - tall,
    base,
    limit: base - host.limit_bytes * scale,
    bedrock,
    stones,
    free: Math.max(0, host.limit_bytes - used),
    dense,
    named,
  };
}

const DRIVE_GAP = 3,
  DRIVE_LEAST = 6,
  DRIVE_MOST = 13;

/** A machine's drives side by side at its foot, in as many rows as they need, and what each is for by its node's cells. */
function driveBoxes(
  host: Place,
  nodes: Part[],
  x: number,
  w: number,
  base: number,
  tall: number,
): DriveBox[] {
  const all = host.drives ?? [];
  if (!all.length) return [];
  const uses = driveUses(nodes);
  const room = w - 2 * DRIVE_GAP;
  const perRow = Math.max(1, Math.min(all.length, Math.floor(room / (DRIVE_LEAST + DRIVE_GAP))));
  const side = Math.min(DRIVE_MOST, (room - DRIVE_GAP * (perRow - 1)) / perRow);
  const rows = Math.ceil(all.length / perRow);
  if (rows * (side + DRIVE_GAP) > tall / 2) return [];
  return all.map((drive, n) => {
    const use = uses.get(drive.serial) ?? (drive.holds ? 'held' : 'free');
    return {
      serial: drive.serial,
      use,
      title: `${drive.serial}, ${size(drive.size_bytes)} ${drive.kind}: ${driveWords(use, drive.holds)}`,
      x: x + DRIVE_GAP + (n % perRow) * (side + DRIVE_GAP),
      y: base - (Math.floor(n / perRow) + 1) * (side + DRIVE_GAP),
      w: side,
      h: side,
    };
  });
}

function driveUses(nodes: Part[]): Map<string, DriveUse> {
  const found = new Map<string, DriveUse>();
  for (const node of nodes)
    for (const [column, cell] of Object.entries(node.cells)) {
      const use = column === 'system.drive' ? 'system' : 'data';
      if (column === 'system.drive' || column.endsWith('.drives'))
        for (const serial of cell.value.split(','))
          if (serial.trim()) found.set(serial.trim(), use);
    }
  return found;
}

function driveWords(use: DriveUse, holds: string | null): string {
  if (use === 'system') return 'system drive';
  if (use === 'data') return 'data drive';
  if (holds === null) return 'not inspected';
  return holds ? `holds ${holds}` : 'empty, unused';
}

/** A block with its corners cut, each a little differently, always the same for the same node. */
export function stonePath(b: { x: number; y: number; w: number; h: number }, id: string): string {
  let seed = 7;
  for (const letter of id) seed = (seed * 31 + letter.charCodeAt(0)) % 9973;
  const most = Math.min(7, b.h / 2.6, b.w / 4);
  const cut = (n: number) => most * (0.45 + (((seed >> n) * 37) % 55) / 100);
  const [a, c, d, e] = [cut(0), cut(2), cut(4), cut(6)];
  const r = b.x + b.w,
    f = b.y + b.h;
  return `M${b.x + a} ${b.y}H${r - c}L${r} ${b.y + c}V${f - d}L${r - d} ${f}H${b.x + e}L${b.x} ${f - e}V${b.y + a}Z`;
}
