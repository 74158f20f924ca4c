import { describe, expect, it } from 'vitest';
import type { NodeView, PlanView } from '../../lib/api/types';
import { PLAIN } from '../../lib/prefs.svelte';
import { arranged, columnsOf, nextSort, sorted } from './columns';

const COLUMNS = ['name', 'host', 'address', 'station', 'ntp'].map((id) => ({ id, label: id }));
const plan = { columns: COLUMNS, roles: [{ label: 'lead' }], nodes: [] } as unknown as PlanView;
const all = columnsOf(plan, (bytes) => `${bytes} B`);
const ids = (columns: { id: string }[]) => columns.map((one) => one.id);
const node = (id: string, address: string, memory = 0) =>
  ({
    id,
    memory_bytes: memory,
    cells: { address: { value: address, origin: 'pool' } },
  }) as unknown as NodeView;

describe('columns', () => {
  it('that must be answered follow the name', () => {
    expect(ids(arranged(all, PLAIN, ['station'])).slice(0, 3)).toEqual([
      'name',
      'station',
      '#role',
    ]);
  });
  it('can be hidden, ordered and widened, but the name stays', () => {
    const prefs = {
      hidden: ['name', 'ntp', '#disk'],
      order: ['address'],
      widths: { address: 300 },
    };
    const found = arranged(all, prefs, ['station']);
    expect(ids(found).slice(0, 2)).toEqual(['name', 'address']);
    expect(found[1]?.width).toBe(300);
    expect(ids(found)).not.toContain('ntp');
  });
  it('of VMs are left out where all nodes live on bare machines', () => {
    const named = ['name', 'host', 'datastore', 'provisioning', 'disk.data.drives', 'system.drive'];
    const unused = { value: '', origin: 'unused' };
    const bare = { cells: { datastore: unused, provisioning: unused } };
    const onMachines = {
      ...plan,
      columns: named.map((id) => ({ id, label: id })),
      nodes: [bare],
    } as unknown as PlanView;
    expect(ids(columnsOf(onMachines, String))).toEqual([
      'name',
      '#role',
      'host',
      'system.drive',
      'disk.data.drives',
      '#vcpu',
      '#memory',
    ]);
    const mixed = { ...onMachines, nodes: [bare, { cells: {} }] } as unknown as PlanView;
    expect(ids(columnsOf(mixed, String))).toContain('datastore');
  });
  it('sort by what is meant, not by letters', () => {
    const nodes = [node('a', '10.0.0.9', 8), node('b', ''), node('c', '10.0.0.10', 64)];
    const [address, memory] = ['address', '#memory'].map((id) => all.find((c) => c.id === id)!);
    expect(sorted(nodes, address!, false)).toEqual(['a', 'c', 'b']);
    expect(sorted(nodes, address!, true)).toEqual(['c', 'a', 'b']);
    expect(sorted(nodes, memory!, true)).toEqual(['c', 'a', 'b']);
  });
  it('are sorted up, down, and no more', () => {
    const up = nextSort(null, 'host');
    expect(up).toEqual({ column: 'host', down: false });
    expect(nextSort(up, 'host')).toEqual({ column: 'host', down: true });
    expect(nextSort({ column: 'host', down: true }, 'host')).toBeNull();
    expect(nextSort(up, 'size')).toEqual({ column: 'size', down: false });
  });
});
