import { describe, expect, it } from 'vitest';
import type { PlanDelta, PlanView } from './api/types';
import { merged } from './merge';

const node = (id: string, host: string, value = 'x') => ({
  id,
  name: id,
  host,
  cells: { ntp: { value, origin: 'plan' }, dns: { value: 'd', origin: 'pool' } },
});
const plan = (more: object) =>
  ({
    version: 1,
    nodes: [node('a', 'h1'), node('b', 'h2')],
    waves: [1, 2],
    hosts: ['h1', 'h2'],
    ...more,
  }) as unknown as PlanView;
const delta = (more: object) => ({ version: 1, since: 't1', ...more }) as unknown as PlanDelta;

describe('merged', () => {
  it('takes a whole answer as it is', () => {
    const whole = plan({ version: 2 });
    expect(merged(plan({}), whole)).toBe(whole);
    expect(merged(null, whole)).toBe(whole);
  });
  it('lays changed cells over a node and keeps the others', () => {
    const out = merged(
      plan({}),
      delta({
        version: 2,
        nodes: [{ id: 'b', cells: { ntp: { value: 'new', origin: 'node' } } }],
      }),
    );
    expect(
      out.nodes.map((n) => [n.id, n.cells['ntp']?.value, n.cells['dns']?.value, n.host]),
    ).toEqual([
      ['a', 'x', 'd', 'h1'],
      ['b', 'new', 'd', 'h2'],
    ]);
    expect([out.waves, out.hosts, out.version]).toEqual([[1, 2], ['h1', 'h2'], 2]);
  });
  it('lets nodes come, go and move', () => {
    const out = merged(
      plan({}),
      delta({ nodes: [node('c', 'h3'), node('a', 'h2')], order: ['c', 'a'] }),
    );
    expect(out.nodes.map((n) => `${n.id}@${n.host}`)).toEqual(['c@h3', 'a@h2']);
  });
  it('keeps what it was given unchanged', () => {
    const old = plan({});
    merged(old, delta({ nodes: [{ id: 'a', cells: {} }], order: ['a'] }));
    expect(old.nodes).toHaveLength(2);
  });
});
