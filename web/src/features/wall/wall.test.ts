import { describe, expect, it } from 'vitest';
import type { HostView, NodeView } from '../../lib/api/types';
import { layout, stonePath } from './wall';

const GIB = 2 ** 30;
const host = (name: string, memory: number, bay = 'main', bedrock: number[] = []): HostView => ({
  name, site: 'Kelda', bay, address: '', memory_bytes: memory * GIB, limit_bytes: memory * GIB * 0.95, threads: 1, stores: [], networks: [], hypervisor: '', cpu_model: '', domain_type: '',
  domain_reason: '', read_at: 0, trouble: '', fingerprint: '', credential: '', note: '', tags: [], bedrock: bedrock.map((size, i) => ({ name: `b${i}`, memory_bytes: size * GIB, ours: false, vcpu: 1 })), carries: [],
});
const node = (id: string, on: string, memory: number): NodeView => ({
  id, name: id, role: 'archive', role_label: 'archive', role_index: 1, short: id, host: on, vcpu: 1, memory_bytes: memory * GIB, thin_bytes: 0, full_bytes: 0, cells: {},
});

describe('the wall', () => {
  it('draws capacity as height and stacks stones on bedrock', () => {
    const picture = layout([host('a', 100, 'main', [40]), host('b', 50)], [node('n', 'a', 30)], 900, 260);
    const [a, b] = picture.columns;
    expect((a!.base - a!.top) / (b!.base - b!.top)).toBeCloseTo(2, 5);
    expect(a!.stones[0]!.y + a!.stones[0]!.h).toBeLessThanOrEqual(a!.bedrock[0]!.y);
    expect(a!.free).toBe(30 * GIB);
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
    const hosts = Array.from({ length: count }, (_, i) => host(`h${i}`, 64 + (i % 3) * 64, `bay${Math.floor(i / 300)}`));
    const { columns } = layout(hosts, [], 906, 260);
    expect(columns).toHaveLength(count);
    const rows = new Map<number, typeof columns>();
    for (const column of columns) {
      expect(column.x).toBeGreaterThanOrEqual(0);
      expect(column.x + column.w).toBeLessThanOrEqual(907);
      expect(column.base).toBeLessThanOrEqual(260);
      rows.set(column.base, [...(rows.get(column.base) ?? []), column]);
    }
    for (const row of rows.values()) row.slice(1).forEach((column, i) => expect(column.x).toBeGreaterThanOrEqual(row[i]!.x + row[i]!.w));
  });

  it('names each bay once where it begins', () => {
    const { groups } = layout([host('a', 1, 'one'), host('b', 1, 'one'), host('c', 1, 'two')], [], 900, 260);
    expect(groups.map((group) => group.name)).toEqual(['Kelda · one', 'Kelda · two']);
  });

  it('cuts the same stone always alike', () => {
    const block = { x: 0, y: 0, w: 90, h: 20 };
    expect(stonePath(block, 'lead-1')).toBe(stonePath(block, 'lead-1'));
    expect(stonePath(block, 'lead-1')).not.toBe(stonePath(block, 'archive-2'));
  });
});
