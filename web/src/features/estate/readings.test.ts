import { describe, expect, it } from 'vitest';
import type { EstateView, FitnessView, HostView, MachineView } from '../../lib/api/types';
import { bars, layout, READINGS } from './readings';

const host = (name: string, bay: string, more: Partial<HostView> = {}) =>
  ({
    name,
    site: 'Kelda',
    bay,
    address: '10.44.1.1',
    memory_bytes: 256 * 2 ** 30,
    limit_bytes: 243 * 2 ** 30,
    threads: 48,
    bedrock: [{ name: 'old', memory_bytes: 32 * 2 ** 30, ours: false, vcpu: 8 }],
    stores: [
      { name: 'shared', capacity_bytes: 12e12, free_bytes: 7e12, shared: 'filer:/x' },
      { name: `${name}-local`, capacity_bytes: 2e12, free_bytes: 1e12, shared: '' },
    ],
    networks: [],
    carries: [],
    hypervisor: '',
    cpu_model: '',
    domain_type: 'kvm',
    domain_reason: '',
    read_at: 1000,
    trouble: '',
    fingerprint: '',
    credential: '',
    note: '',
    tags: [],
    ...more,
  }) as HostView;
const machine = (name: string) =>
  ({
    machine: { name, site: 'Kelda', bay: 'metal', address: '10.44.3.1' },
    facts: {
      machine: name,
      read_at: 1000,
      memory_bytes: 384 * 2 ** 30,
      power: 'Off',
      drives: [{ name: 'bay 1', size_bytes: 7e12, health: 'OK' }],
      processors: [{ threads: 64 }],
      trouble: '',
    },
    fingerprint: '',
  }) as unknown as MachineView;
const estate = (hosts: HostView[], machines: MachineView[] = []): EstateView => ({
  hosts,
  machines,
  networks: [],
  pools: [],
  series: [],
  bays: [],
  now: 1100,
});

describe('bars', () => {
  it('counts a shared datastore once', () => {
    const found = bars(estate([host('gannet', 'main'), host('fulmar', 'main')]), null, 'bytes');
    expect(found.filter((bar) => bar.kind === 'shared')).toHaveLength(1);
    expect(found.map((bar) => bar.name)).toEqual(['gannet', 'fulmar', 'shared']);
    expect(found[0]?.whole).toBe(2e12);
  });
  it('has machines beside hosts in every reading, and one that was never read is not taken for a fresh one', () => {
    for (const [reading] of READINGS)
      expect(
        bars(estate([host('gannet', 'main')], [machine('flint')]), null, reading).map(
          (b) => b.name,
        ),
      ).toContain('flint');
    expect(
      bars(estate([host('gannet', 'main', { read_at: 0 })]), null, 'age')[0]?.parts[0]?.tone,
    ).toBe('old');
    expect(bars(estate([host('gannet', 'main')]), null, 'age')[0]?.parts[0]?.tone).toBe('fresh');
  });
  it('stacks findings, the heaviest at the foot', () => {
    const fitness = {
      rules: [],
      settings: [],
      violations: (['note', 'blocker', 'caution'] as const).map((severity) => ({
        rule: severity,
        host: 'gannet',
        severity,
        message: severity,
        remedy: '',
        machine: false,
        action: null,
      })),
    } as unknown as FitnessView;
    expect(
      bars(estate([host('gannet', 'main')]), fitness, 'findings')[0]?.parts.map((p) => p.tone),
    ).toEqual(['blocker', 'caution', 'note']);
  });
});

interface Span {
  line: number;
  from: number;
  to: number;
}

const pairs = (spans: Span[]) => spans.flatMap((a, i) => spans.slice(i + 1).map((b) => ({ a, b })));

describe('layout', () => {
  const many = (n: number) =>
    Array.from({ length: n }, (_, i) =>
      host(`h${i}`, (i < 8 && ['main', 'second-room'][i >> 2]) || 'outfield'),
    );
  for (const n of [1, 3, 8, 30, 308])
    it(`keeps ${n} hosts inside, apart, and no title in another's way`, () => {
      const picture = layout(bars(estate(many(n)), null, 'memory'), 920, 300);
      expect(picture.columns).toHaveLength(n);
      for (const c of picture.columns) {
        expect(c.x + c.w).toBeLessThanOrEqual(921);
        expect(c.top).toBeGreaterThanOrEqual(0);
        expect(c.base).toBeLessThanOrEqual(300);
      }
      // One expectation over all pairs: 94,556 of them took 5 s on a busy machine.
      const meet = (a: Span, b: Span) => a.from < b.to && b.from < a.to;
      const columns = picture.columns.map((c) => ({ line: c.base, from: c.x, to: c.x + c.w }));
      const titles = picture.titles.map((t) => ({
        line: t.y,
        from: t.x,
        to: t.x + t.text.length * 6.2,
      }));
      expect(pairs(columns).filter(({ a, b }) => a.line === b.line && meet(a, b))).toEqual([]);
      expect(pairs(titles).filter(({ a, b }) => a.line === b.line && meet(a, b))).toEqual([]);
    });
});
