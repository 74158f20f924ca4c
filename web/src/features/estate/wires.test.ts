import { describe, expect, it } from 'vitest';
import type { OneHost } from '../../lib/api/types';
import { wiring } from './wires';

const facts = (interfaces: object[], networks: object[]) =>
  ({ interfaces, networks }) as unknown as OneHost['facts'];

describe('wiring', () => {
  it('leads from a port over bond, VLAN and bridge to the network', () => {
    const w = wiring(
      facts(
        [
          { name: 'lo', kind: 'loopback' },
          { name: 'eno2', kind: 'physical', master: 'bond0', link: true, speed_mbit: 25000 },
          { name: 'bond0', kind: 'bond', link: true },
          { name: 'bond0.420', kind: 'vlan', parent: 'bond0', master: 'br-survey', link: true },
          { name: 'br-survey', kind: 'bridge', link: true, mtu: 1500 },
        ],
        [{ name: 'survey', bridge: 'br-survey', active: true }],
      ),
      700,
    );
    expect(w.spots.map((s) => s.label)).toEqual([
      'eno2',
      'bond0',
      'bond0.420',
      'br-survey',
      'survey',
    ]);
    expect(w.wires.map((x) => `${x.from.label}>${x.to.label}`).sort()).toEqual([
      'bond0.420>br-survey',
      'bond0>bond0.420',
      'br-survey>survey',
      'eno2>bond0',
    ]);
    expect(w.spots.at(-1)!.x).toBeGreaterThan(w.spots[0]!.x);
  });
  it('ends for hosts that name their interfaces in a ring', () => {
    const w = wiring(
      facts(
        [
          { name: 'a', kind: 'bridge', master: 'b' },
          { name: 'b', kind: 'bridge', master: 'a' },
        ],
        [],
      ),
      400,
    );
    expect(w.spots).toHaveLength(2);
  });
  it('draws nothing for nothing', () => {
    expect(wiring(facts([], []), 400).spots).toEqual([]);
  });
});
