import { describe, expect, it } from 'vitest';
import type { EstateView } from '../../lib/api/types';
import { carrying } from './provided';

const host = (name: string, nets: [string, number, boolean?][]) => ({
  name,
  site: 'Ness',
  bay: 'two',
  carries: nets.map(([network, mtu, link = true]) => ({
    network,
    bridge: `br-${network}`,
    active: true,
    mtu,
    isolated: false,
    ports: [{ name: `eno2.${network.length}`, link, speed_mbit: 0, vlan: 5 }],
    address: '',
  })),
});
const estate = (...hosts: object[]) =>
  ({
    hosts,
    networks: [
      { name: 'survey', vlan: 420 },
      { name: 'storage', vlan: 460 },
    ],
  }) as unknown as EstateView;

describe('carrying', () => {
  it('puts alike hosts into one row and the odd ones first', () => {
    const found = carrying(
      estate(
        host('a', [['survey', 1500]]),
        host('b', [['survey', 1500]]),
        host('c', []),
        host('d', [['survey', 9000]]),
      ),
    );
    expect(found.networks.map((n) => n.name)).toEqual(['survey', 'storage']);
    expect(found.bays[0]?.rows.map((r) => r.hosts)).toEqual([['c'], ['d'], ['a', 'b']]);
    expect(found.bays[0]?.rows.map((r) => r.cells[0]?.odd)).toEqual([true, true, false]);
    expect(found.bays[0]?.gaps).toBe(1);
  });
  it('tells a link that is down, and a network nobody described', () => {
    const found = carrying(
      estate(
        host('a', [
          ['survey', 1500, false],
          ['attic', 1500],
        ]),
      ),
    );
    expect(found.bays[0]?.rows[0]?.cells.map((c) => c.state)).toEqual([
      'down',
      'absent',
      'carried',
    ]);
    expect(found.networks.at(-1)).toEqual({ name: 'attic', vlan: null, described: false });
  });
});
