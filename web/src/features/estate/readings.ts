/** The wall of the whole estate under several readings. Pure: hosts, machines and findings in, bars and their places out. Lengths in pixels. */
import type { EstateView, FitnessView, HostView, MachineView } from '../../lib/api/types';
import { ago, count, size } from '../../lib/format';

export type Reading = 'memory' | 'vcpu' | 'bytes' | 'age' | 'findings';
export const READINGS: [Reading, string][] = [
  ['memory', 'memory'],
  ['vcpu', 'vCPU'],
  ['bytes', 'datastores'],
  ['age', 'age of facts'],
  ['findings', 'findings'],
];
export type Tone = 'rock' | 'ours' | 'old' | 'fresh' | 'drive' | 'blocker' | 'caution' | 'note';
export interface Part {
  label: string;
  value: number;
  tone: Tone;
}
/** One column: a host, a machine, or a datastore that a bay shares. `whole` is its capacity, `limit` a line across it. */
export interface Bar {
  key: string;
  name: string;
  group: string;
  kind: 'host' | 'machine' | 'shared';
  whole: number;
  limit: number;
  parts: Part[];
  below: string;
  words: string;
  trouble: boolean;
  stale: boolean;
}
export interface Column {
  bar: Bar;
  x: number;
  w: number;
  top: number;
  base: number;
  limit: number;
  parts: { part: Part; y: number; h: number }[];
}
export interface Title {
  text: string;
  x: number;
  y: number;
  w: number;
}
export interface Picture {
  columns: Column[];
  titles: Title[];
  height: number;
  dense: boolean;
}

const OLD_S = 24 * 3600;

export function bars(
  estate: Pick<EstateView, 'hosts' | 'machines' | 'now'>,
  fitness: FitnessView | null,
  reading: Reading,
): Bar[] {
  const broken = new Map<string, FitnessView['violations']>();
  for (const v of fitness?.violations ?? []) {
    const mine = broken.get(v.host);
    if (mine) mine.push(v);
    else broken.set(v.host, [v]);
  }
  const groups = new Map<string, Bar[]>();
  const put = (bar: Bar) => {
    const mine = groups.get(bar.group);
    if (mine) mine.push(bar);
    else groups.set(bar.group, [bar]);
  };
  for (const host of estate.hosts)
    put(ofHost(host, estate.now, broken.get(host.name) ?? [], reading));
  if (reading === 'bytes') for (const bar of sharedOnes(estate.hosts)) put(bar);
  for (const machine of estate.machines)
    put(ofMachine(machine, estate.now, broken.get(machine.machine.name) ?? [], reading));
  return [...groups.keys()].sort().flatMap((group) => groups.get(group) ?? []);
}

function ofHost(
  host: HostView,
  now: number,
  broken: FitnessView['violations'],
  reading: Reading,
): Bar {
  const age = host.read_at ? now - host.read_at : 0;
  const base = {
    key: host.name,
    name: host.name,
    group: `${host.site} · ${host.bay}`,
    kind: 'host' as const,
    limit: 0,
    trouble: host.trouble !== '',
    stale: age > OLD_S || host.trouble !== '',
  };
  if (reading === 'age') return { ...base, ...aged(age, host.read_at > 0) };
  if (reading === 'findings') return { ...base, ...found(broken) };
  if (reading === 'vcpu') {
    const promised = host.bedrock.reduce((sum, guest) => sum + (guest.vcpu ?? 0), 0);
    return {
      ...base,
      whole: Math.max(host.threads, promised),
      limit: host.threads,
      parts: host.bedrock.map((g) => ({
        label: g.name,
        value: g.vcpu ?? 0,
        tone: g.ours ? 'ours' : 'rock',
      })),
      below: `${promised} of ${host.threads}`,
      words: `${promised} vCPU allocated on ${host.threads} threads`,
    };
  }
  if (reading === 'bytes') {
    const local = host.stores.filter((s) => !s.shared),
      whole = local.reduce((sum, s) => sum + s.capacity_bytes, 0),
      free = local.reduce((sum, s) => sum + s.free_bytes, 0);
    return {
      ...base,
      whole,
      parts: local.map((s) => ({
        label: s.name,
        value: s.capacity_bytes - s.free_bytes,
        tone: 'rock',
      })),
      below: whole ? `${size(free)} free` : 'none',
      words:
        local
          .map((s) => `${s.name}: ${size(s.free_bytes)} of ${size(s.capacity_bytes)} free`)
          .join('; ') || 'no local datastore',
    };
  }
  const used = host.bedrock.reduce((sum, guest) => sum + guest.memory_bytes, 0);
  return {
    ...base,
    whole: host.memory_bytes,
    limit: host.limit_bytes,
    parts: host.bedrock.map((g) => ({
      label: g.name,
      value: g.memory_bytes,
      tone: g.ours ? 'ours' : 'rock',
    })),
    below: `${size(Math.max(0, host.limit_bytes - used))} free`,
    words: `${size(used)} of ${size(host.memory_bytes)} allocated to ${count(host.bedrock.length, 'VM')}`,
  };
}

function ofMachine(
  { machine, facts, lives }: MachineView,
  now: number,
  broken: FitnessView['violations'],
  reading: Reading,
): Bar {
  const age = facts.read_at ? now - facts.read_at : 0;
  const base = {
    key: machine.name,
    name: machine.name,
    group: `${machine.site} · ${machine.bay}`,
    kind: 'machine' as const,
    limit: 0,
    parts: [] as Part[],
    trouble: facts.trouble !== '',
    stale: age > OLD_S || facts.trouble !== '',
  };
  if (reading === 'age') return { ...base, ...aged(age, (facts.read_at ?? 0) > 0) };
  if (reading === 'findings') return { ...base, ...found(broken) };
  const power = facts.power ? facts.power.toLowerCase() : '';
  /** A node takes a whole machine. */
  const taken = (whole: number): Part[] =>
    lives ? [{ label: lives.name, value: whole, tone: 'ours' }] : [];
  const carried = lives ? `, ${lives.name} of plan ${lives.plan} on it` : '';
  if (reading === 'vcpu') {
    const threads = facts.processors?.reduce((sum, p) => sum + (p.threads ?? 0), 0) ?? 0;
    return {
      ...base,
      whole: threads,
      parts: taken(threads),
      below: threads ? `${threads} threads` : 'not reported',
      words: `${threads} threads, power ${power}${carried}`,
    };
  }
  if (reading === 'bytes') {
    const drives = facts.drives ?? [],
      whole = drives.reduce((sum, d) => sum + (d.size_bytes ?? 0), 0);
    return {
      ...base,
      whole,
      parts: drives.map((d) => ({
        label: `${d.name}, ${size(d.size_bytes ?? 0)}${d.health && d.health !== 'OK' ? `, ${d.health}` : ''}`,
        value: d.size_bytes ?? 0,
        tone: d.health && d.health !== 'OK' ? 'caution' : 'drive',
      })),
      below: drives.length ? `${drives.length} drives` : 'not reported',
      words: `${count(drives.length, 'drive')}, ${size(whole)}`,
    };
  }
  return {
    ...base,
    whole: facts.memory_bytes ?? 0,
    parts: taken(facts.memory_bytes ?? 0),
    below: facts.memory_bytes ? power || 'power unknown' : 'not reported',
    words: `bare metal, ${facts.memory_bytes ? size(facts.memory_bytes) : 'memory not reported'}, power ${power || 'unknown'}${carried}`,
  };
}

/** A datastore that several hosts of a site see counts once. */
function sharedOnes(hosts: HostView[]): Bar[] {
  const seen = new Map<string, { store: HostView['stores'][number]; by: HostView[] }>();
  for (const host of hosts)
    for (const store of host.stores)
      if (store.shared) {
        const one = seen.get(store.shared) ?? { store, by: [] };
        one.by.push(host);
        seen.set(store.shared, one);
      }
  return [...seen.values()].map(({ store, by }) => ({
    key: `shared ${store.shared}`,
    name: store.name,
    group: `${by[0]!.site} · ${by[0]!.bay}`,
    kind: 'shared',
    whole: store.capacity_bytes,
    limit: 0,
    parts: [{ label: store.name, value: store.capacity_bytes - store.free_bytes, tone: 'rock' }],
    below: `${size(store.free_bytes)} free`,
    words: `${store.shared}, seen by ${count(by.length, 'host')}: ${size(store.free_bytes)} of ${size(store.capacity_bytes)} free`,
    trouble: false,
    stale: false,
  }));
}

function aged(
  age: number,
  read: boolean,
): Pick<Bar, 'whole' | 'limit' | 'parts' | 'below' | 'words'> {
  const shown = Math.min(age, 2 * OLD_S);
  return {
    whole: 2 * OLD_S,
    limit: OLD_S,
    parts: [
      {
        label: 'age',
        value: read ? Math.max(shown, 600) : 2 * OLD_S,
        tone: read && age <= OLD_S ? 'fresh' : 'old',
      },
    ],
    below: read ? ago(age).replace(' ago', '') : 'never',
    words: read ? `read ${ago(age)}` : 'never read',
  };
}

function found(
  broken: FitnessView['violations'],
): Pick<Bar, 'whole' | 'limit' | 'parts' | 'below' | 'words'> {
  const parts: Part[] = (['blocker', 'caution', 'note'] as const).flatMap((severity) =>
    broken
      .filter((v) => v.severity === severity)
      .map((v) => ({ label: v.message, value: 1, tone: severity })),
  );
  const heavy = broken.filter((v) => v.severity !== 'note').length;
  return {
    whole: Math.max(6, parts.length),
    limit: 0,
    parts,
    below: heavy ? `${heavy} to fix` : notesOr(parts.length, 'ready'),
    words:
      broken
        .filter((v) => v.severity !== 'note')
        .map((v) => v.message)
        .join('; ') || (parts.length ? count(parts.length, 'note') : 'all rules pass'),
  };
}

const HEAD = 22,
  GROUP_GAP = 26,
  WIDEST = 128,
  NARROWEST = 7,
  LETTER = 6.2;

interface Place {
  bar: Bar;
  x: number;
  row: number;
}
const notesOr = (notes: number, none: string) => (notes ? count(notes, 'note') : none);

/** Pixels between columns that are `step` apart. */
function gapOf(step: number): number {
  if (step > 40) return 8;
  return step > 14 ? 2 : 1;
}

/** Bars in rows: a bay's title never runs into the next one, and a bay that is too long goes on in the next row. */
function placed(
  all: Bar[],
  step: number,
  width: number,
): { places: Place[]; titles: (Omit<Title, 'y'> & { row: number })[]; rows: number } {
  const places: Place[] = [],
    titles: (Omit<Title, 'y'> & { row: number })[] = [];
  let x = 0,
    row = 0,
    group = '',
    free = 0;
  for (const bar of all) {
    if (bar.group !== group) {
      x = group ? Math.max(x, free) + GROUP_GAP : 0;
      const needed = Math.max(step, Math.min(bar.group.length * LETTER, width));
      if (x && x + needed > width) {
        row++;
        x = 0;
      }
      titles.push({ text: bar.group, x, w: needed, row });
      free = x + needed;
      group = bar.group;
    } else if (x + step > width + 1) {
      row++;
      x = 0;
      free = 0;
    }
    places.push({ bar, x, row });
    x += step;
  }
  return { places, titles, rows: row + 1 };
}

export function layout(all: Bar[], width: number, height: number): Picture {
  let chosen = placed(all, NARROWEST, width),
    step = NARROWEST;
  const mostRows = Math.max(1, Math.floor(height / 64));
  search: for (let rows = 1; rows <= mostRows; rows++) {
    for (let wide = WIDEST; wide >= NARROWEST; wide -= wide > 24 ? 4 : 1) {
      const tried = placed(all, wide, width);
      if (tried.rows <= rows && (wide >= 26 || rows > 1 || all.length > width / 26)) {
        chosen = tried;
        step = wide;
        break search;
      }
    }
  }
  const gap = gapOf(step),
    w = Math.max(3, step - gap),
    dense = w < 38;
  const rowHeight = height / chosen.rows,
    foot = dense ? 6 : 36,
    high = Math.max(8, rowHeight - HEAD - foot);
  // Raw drives of bare metal would dwarf every datastore: machines have a scale of their own where that is so.
  const largest = (machines: boolean) =>
    Math.max(
      1,
      ...all.filter((bar) => (bar.kind === 'machine') === machines).map((bar) => bar.whole),
    );
  const [ours, metal] = [largest(false), largest(true)],
    apart = metal > 3 * ours && ours > 1;
  const columns = chosen.places.map(({ bar, x, row }): Column => {
    const base = row * rowHeight + HEAD + high,
      most = apart ? largest(bar.kind === 'machine') : Math.max(ours, metal),
      scale = high / most,
      tall = Math.max(bar.whole ? 4 : 2, bar.whole * scale);
    let y = base;
    const parts = bar.parts
      .filter((part) => part.value > 0)
      .map((part) => {
        const h = Math.max(dense ? 1 : 2, part.value * scale);
        y -= h;
        return { part, y, h };
      });
    return {
      bar,
      x,
      w,
      top: base - tall,
      base,
      limit: bar.limit ? base - bar.limit * scale : 0,
      parts,
    };
  });
  return {
    columns,
    titles: chosen.titles.map((t) => ({ text: t.text, x: t.x, w: t.w, y: t.row * rowHeight + 13 })),
    height,
    dense,
  };
}

/** A short text for below a column: whole, without its last word, or nothing. */
export function fitting(text: string, width: number, letter: number): string {
  if (text.length * letter <= width) return text;
  const short = text.split(' ').slice(0, 2).join(' ');
  return short.length * letter <= width ? short : '';
}
