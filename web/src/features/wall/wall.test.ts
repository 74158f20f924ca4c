import { describe, expect, it } from 'vitest';
import type { HostView, NodeView } from '../../lib/api/types';
import { footOf, isOdd, layout, measured, nodeOf, stonePath, wallHeight } from './wall';

const GIB = 2 ** 30;
const host = (name: string, memory: number, bay = 'main', bedrock: number[] = []): HostView => ({
  name,
  site: 'Kelda',
  bay,
  rack: '',
  address: '',
  memory_bytes: memory * GIB,
  limit_bytes: memory * GIB * 0.95,
  threads: 1,
  stores: [],
  networks: [],
  hypervisor: '',
  cpu_model: '',
  domain_type: '',
  domain_reason: '',
  read_at: 0,
  trouble: '',
  fingerprint: '',
  credential: '',
  note: '',
  tags: [],
  bedrock: bedrock.map((size, i) => ({
    name: `b${i}`,
    memory_bytes: size * GIB,
    ours: false,
    vcpu: 1,
  })),
  carries: [],
  bare: false,
  drives: [],
});
const node = (id: string, on: string, memory: number): NodeView => ({
  id,
  name: id,
  role: 'archive',
  role_label: 'archive',
  role_index: 1,
  also: [],
  short: id,
  host: on,
  vcpu: 1,
  memory_bytes: memory * GIB,
  thin_bytes: 0,
  full_bytes: 0,
  cells: {},
});

describe('the wall', () => {
  it('draws capacity as height and stacks stones on bedrock', () => {
    const picture = layout(
      [host('a', 100, 'main', [40]), host('b', 50)],
      [node('n', 'a', 30)],
      900,
      260,
    );
    const [a, b] = picture.columns;
    expect((a!.base - a!.top) / (b!.base - b!.top)).toBeCloseTo(2, 5);
    expect(a!.stones[0]!.y + a!.stones[0]!.h).toBeLessThanOrEqual(a!.bedrock[0]!.y);
    expect(a!.free).toBeCloseTo(25 * GIB, -3); // below the limit of 95 %, as the host's page and the table say
  });

  it('keeps small stones readable and lets nothing leave its column', () => {
    const many = Array.from({ length: 40 }, (_, i) => node(`n${i}`, 'a', 1));
    const [a] = layout([host('a', 64, 'main', [20])], many, 900, 260).columns;
    for (const stone of a!.stones) {
      expect(stone.y).toBeGreaterThanOrEqual(a!.top - 1);
      expect(stone.y + stone.h).toBeLessThanOrEqual(a!.base);
    }
    const [roomy] = layout([host('a', 512)], [node('n', 'a', 1)], 900, 260).columns;
    expect(roomy!.stones[0]!.h).toBeGreaterThanOrEqual(17);
  });

  it.each([1, 8, 60, 318, 900])('fits %i hosts in the width, without overlap', (count) => {
    const hosts = Array.from({ length: count }, (_, i) =>
      host(`h${i}`, 64 + (i % 3) * 64, `bay${Math.floor(i / 300)}`),
    );
    const { columns } = layout(hosts, [], 906, 260);
    expect(columns).toHaveLength(count);
    const rows = new Map<number, typeof columns>();
    for (const column of columns) {
      expect(column.x).toBeGreaterThanOrEqual(0);
      expect(column.x + column.w).toBeLessThanOrEqual(907);
      expect(column.base).toBeLessThanOrEqual(260);
      rows.set(column.base, [...(rows.get(column.base) ?? []), column]);
    }
    for (const row of rows.values())
      row
        .slice(1)
        .forEach((column, i) => expect(column.x).toBeGreaterThanOrEqual(row[i]!.x + row[i]!.w));
  });

  it('names each bay once where it begins', () => {
    const { groups } = layout(
      [host('a', 1, 'one'), host('b', 1, 'one'), host('c', 1, 'two')],
      [],
      900,
      260,
    );
    expect(groups.map((group) => group.name)).toEqual(['Kelda · one', 'Kelda · two']);
  });

  it('cuts the same stone always alike', () => {
    const block = { x: 0, y: 0, w: 90, h: 20 };
    expect(stonePath(block, 'lead-1')).toBe(stonePath(block, 'lead-1'));
    expect(stonePath(block, 'lead-1')).not.toBe(stonePath(block, 'archive-2'));
  });
});

describe('datastores as columns', () => {
  const store = (name: string, capacity: number, free: number, shared = '') => ({
    name,
    capacity_bytes: capacity * GIB,
    free_bytes: free * GIB,
    shared,
  });
  const cell = (value: string, origin = 'node') => ({ value, origin }) as NodeView['cells'][string];
  const hosts = [
    { ...host('a', 64), stores: [store('common', 100, 60, 'filer:/x'), store('fast', 50, 50)] },
    { ...host('b', 64), stores: [store('common', 100, 60, 'filer:/x'), store('b-own', 20, 10)] },
  ];
  const part = (id: string, on: string, where: string): NodeView => ({
    ...node(id, on, 8),
    thin_bytes: GIB,
    full_bytes: 40 * GIB,
    cells: {
      datastore: cell(where),
      'disk.data': cell('10'),
      'disk.data.count': cell('2'),
      'disk.data.datastore': cell(where === 'common' ? 'common' : 'b-own'),
    },
  });
  const line = (name: string, on: string, thin: number, full: number) => ({
    name,
    host: on,
    capacity_bytes: 0,
    used_bytes: 0,
    thin_bytes: thin * GIB,
    full_bytes: full * GIB,
    nodes: 1,
  });

  it('draws a shared one once, first, and names local ones by their host', () => {
    const seen = measured(hosts, [], 'full');
    expect(seen.hosts.map((one) => [one.name, one.on, one.store])).toEqual([
      ['common', '', 'common'],
      ['fast on a', 'a', 'fast'],
      ['b-own', 'b', 'b-own'],
    ]);
    expect(seen.hosts.map((one) => one.memory_bytes / GIB)).toEqual([100, 50, 20]);
  });

  it('lays each part of a node where it lies, as large as it is now or at worst', () => {
    const full = measured(hosts, [part('n', 'b', 'common')], 'full', [line('common', '', 1, 40)]);
    expect(
      full.nodes.map((one) => [nodeOf(one), one.column, one.host, one.memory_bytes / GIB]),
    ).toEqual([
      ['n', 'datastore', 'common', 20],
      ['n', 'disk.data.datastore', 'common', 20],
    ]);
    const now = measured(hosts, [part('n', 'b', 'common')], 'stores', [line('common', '', 1, 40)]);
    expect(now.nodes.map((one) => one.memory_bytes)).toEqual([GIB - 2 * 2 ** 18, 2 * 2 ** 18]);
    expect(new Set(full.nodes.map((one) => one.id)).size).toBe(2);
  });

  it('tells what is short: the column grows beyond its capacity, which stays its limit', () => {
    const [common] = measured(hosts, [part('n', 'b', 'common')], 'full', [
      line('common', '', 1, 90),
    ]).hosts;
    expect(common!.memory_bytes / GIB).toBe(130);
    expect(common!.limit_bytes / GIB).toBe(100);
    expect(common!.foot).toBe('30 GiB short when full');
    expect(measured(hosts, [], 'stores', [line('common', '', 1, 40)]).hosts[0]!.foot).toBe(
      '59 GiB free after',
    );
    expect(
      layout(
        measured(hosts, [], 'full', [line('common', '', 1, 90)]).hosts,
        [],
        900,
        260,
      ).groups.map((one) => one.name),
    ).toEqual(['Datastores · shared', 'Datastores · local']);
  });
});

describe('a wall of any size', () => {
  const many = (n: number) => Array.from({ length: n }, (_, i) => host(`h${i}`, 128));
  it('writes names across, upright, or leaves them to the lens', () => {
    const named = (n: number) => layout(many(n), [], 900, 300).columns[0]?.named;
    expect([named(3), named(40), named(300)]).toEqual(['across', 'upright', 'lens']);
  });
  it('is as high as it needs to be', () => {
    expect(wallHeight(many(3), [], 900)).toBeLessThan(230);
    expect(wallHeight(many(40), [], 900)).toBe(360);
    expect(wallHeight(many(3), [], 300)).toBe(170);
  });
  it('tells the age of facts and what a failure would take', () => {
    const place = { ...host('gannet', 128), read_at: 1000 };
    const told = { losses: [{ host: 'gannet', text: '1 of 2 archive left' }], now: 1000 + 7200 };
    expect(footOf('age', place, told)).toBe('read 2 h ago');
    expect(isOdd('age', place, told.now)).toBe(false);
    expect(isOdd('age', { ...place, read_at: 0 }, told.now)).toBe(true);
    expect(footOf('impact', place, told)).toBe('lost: 1 of 2 archive left');
    expect(footOf('memory', place, told)).toBe('');
  });

  it('draws a bare machine whole, with its drives at the foot and what each is for', () => {
    const serials = ['S1', 'S2', 'S3', 'S4'];
    const drives = serials.map((serial) => ({
      serial,
      size_bytes: GIB,
      kind: 'ssd',
      holds: serial === 'S4' ? 'sda ext4' : '',
    }));
    const machine: HostView = { ...host('slate', 384), bare: true, drives };
    const cells = {
      'system.drive': { value: 'S1', origin: 'computed' },
      'disk.data.drives': { value: 'S2, S3', origin: 'computed' },
    } as NodeView['cells'];
    const seen = measured([machine], [{ ...node('n', 'slate', 16), cells }], 'memory');
    const [column] = layout(seen.hosts, seen.nodes, 900, 260).columns;
    expect(column!.drives.map((one) => one.use)).toEqual(['system', 'data', 'data', 'held']);
    // all of it is the node's, and the stone stands on the drives
    expect(column!.free).toBe(0);
    expect(column!.stones[0]!.y + column!.stones[0]!.h).toBeLessThanOrEqual(column!.drives[0]!.y);
    for (const one of column!.drives)
      expect(one.x + one.w).toBeLessThanOrEqual(column!.x + column!.w);
  });
});
