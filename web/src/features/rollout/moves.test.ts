import { describe, expect, it } from 'vitest';
import type { PlanView } from '../../lib/api/types';
import { leavingMachines } from './moves';

const removed = (node: string, host: string, on_machine: boolean) => ({
  node,
  name: `keel-${node}`,
  role: 'storage',
  host,
  run: 'r1',
  on_machine,
});

describe('nodes that leave', () => {
  it('keep their machines until then, if they go for good', () => {
    const plan = {
      id: 'keel',
      nodes: [{ id: 'sto-1' }],
      hosts: [{ name: 'slate', memory_bytes: 7 }],
      changes: {
        removes: [
          removed('sto-2', 'slate', true),
          // it is made again
          removed('sto-1', 'chert', true),
          // what leaves a host is drawn there already
          removed('sto-3', 'gannet', false),
        ],
      },
    } as unknown as PlanView;
    const found = leavingMachines(plan);
    expect(found.map((one) => [one.name, one.host, one.memory_bytes, one.leaves])).toEqual([
      ['keel-sto-2', 'slate', 7, true],
    ]);
    expect(leavingMachines({ ...plan, changes: null } as unknown as PlanView)).toEqual([]);
  });
});
