import { describe, expect, it } from 'vitest';
import type { NodeView, PlanView } from '../../lib/api/types';
import { columnsOf, type SheetColumn } from './columns';
import { editOf, EVERY, next, paste, shared } from './series';

const column = (id: string, kind: 'text' | 'secret' = 'text', editable = true): SheetColumn => ({
  id,
  label: id,
  width: 1,
  right: false,
  editable,
  text: () => '',
  column: { id, label: id, kind, scope: 'node', required: true, choices: [], rule: '' },
});
const node = (id: string, cells: Record<string, [string, string]>) => ({
  id,
  name: id,
  role: 'r',
  role_label: 'r',
  role_index: 0,
  also: [],
  short: id,
  host: '',
  vcpu: 1,
  memory_bytes: 1,
  thin_bytes: 1,
  full_bytes: 1,
  cells: Object.fromEntries(
    Object.entries(cells).map(([key, [value, origin]]) => [key, { value, origin }]),
  ),
});

const cells = (...all: [string, string][]) =>
  all.map(([value, origin], i) => ({
    id: `n${i}`,
    cells: { lag: { value, origin } },
  })) as unknown as NodeView[];

describe('shared', () => {
  it('looks past nodes that have no such value', () => {
    expect(shared(cells(['30', 'kit'], ['', 'unused']), 'lag')).toEqual({
      value: '30',
      origin: 'all',
    });
    expect(shared(cells(['', 'unused'], ['', 'unused']), 'lag')).toEqual({
      value: '',
      origin: 'unused',
    });
    expect(shared(cells(['30', 'kit'], ['40', 'node']), 'lag').origin).toBe('mixed');
  });
});

describe('filling down', () => {
  it.each([
    ['10.44.20.41', 2, '10.44.20.43'],
    ['10.44.20.255', 1, '10.44.21.0'],
    ['255.255.255.255', 1, '0.0.0.0'],
    ['gauge-arc-9', 1, 'gauge-arc-10'],
    ['node-007', 3, 'node-010'],
    ['UTC', 5, 'UTC'],
    ['', 1, ''],
    ['10.44.20', 1, '10.44.21'],
    ['10.44.20.999', 1, '10.44.20.1000'],
  ])('%s after %i becomes %s', (value, by, wanted) => expect(next(value, by)).toBe(wanted));
});

describe('edits', () => {
  it('write for a node alone, or for the whole plan, and put back when emptied', () => {
    expect(editOf('archive-1', 'address', ' 10.44.20.5 ')).toEqual({
      path: ['nodes', 'archive-1', 'address'],
      value: '10.44.20.5',
    });
    expect(editOf(EVERY, 'station', 'west')).toEqual({
      path: ['values', 'station'],
      value: 'west',
    });
    expect(editOf('archive-1', 'address', '  ')).toEqual({
      path: ['nodes', 'archive-1', 'address'],
      value: null,
    });
  });

  it('lay a pasted block over the sheet, passing over what cannot be written', () => {
    const columns = [
      column('name'),
      column('#role', 'text', false),
      column('address'),
      column('password', 'secret'),
    ];
    const { edits, left } = paste(
      'a\tx\t10.0.0.1\tsecret\tbeyond\r\nb\ty\t10.0.0.2\n',
      ['n1', 'n2'],
      columns,
      0,
      0,
    );
    expect(edits.map((edit) => edit.path.join('/'))).toEqual([
      'nodes/n1/name',
      'nodes/n1/address',
      'nodes/n2/name',
      'nodes/n2/address',
    ]);
    expect(left).toBe(4);
    expect(paste('a\nb\nc\nd\ne', ['n1', 'n2'], columns, 0, 0)).toMatchObject({
      edits: { length: 2 },
      left: 3,
    });
    expect(paste('', ['n1', 'n2'], columns, 1, 0)).toEqual({ edits: [], left: 0 });
  });

  it('know what all nodes share', () => {
    const nodes = [
      node('a', { x: ['1', 'kit'], y: ['1', 'plan'], z: ['1', 'pool'] }),
      node('b', { x: ['1', 'kit'], y: ['2', 'node'], z: ['2', 'pool'] }),
    ];
    expect(shared(nodes, 'x')).toEqual({ value: '1', origin: 'all' });
    expect(shared(nodes, 'y')).toEqual({ value: '1', origin: 'plan' });
    expect(shared(nodes, 'z')).toEqual({ value: '', origin: 'mixed' });
  });
});

describe('columns', () => {
  it('begin with what tells nodes apart and hold every column of the plan', () => {
    const plan = {
      columns: ['station', 'address', 'name', 'host', 'datastore', 'size'].map(
        (id) => column(id).column,
      ),
      nodes: [],
      roles: [{ id: 'reporting', label: 'reporting' }],
    } as unknown as PlanView;
    const ids = columnsOf(plan, String).map((one) => one.id);
    expect(columnsOf(plan, String)[1]?.width).toBe(88);
    expect(ids).toEqual([
      'name',
      '#role',
      'host',
      'address',
      'datastore',
      'size',
      '#vcpu',
      '#memory',
      '#disk',
      'station',
    ]);
  });
});
