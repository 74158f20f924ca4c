import { describe, expect, it } from 'vitest';
import type { MachineView } from '../../lib/api/types';
import { diskRows, holdsText, nicRows } from './inside';

const facts = {
  machine: 'gneiss',
  nics: [
    { name: 'port 1', mac: '52:54:BB:00:00:01' },
    { name: 'port 9', mac: '52:54:bb:00:00:09' },
  ],
  drives: [
    { name: 'bay 0', serial: 'A' },
    { name: 'bay 7', serial: 'Z' },
  ],
  inside: {
    machine: 'gneiss',
    nics: [
      { name: 'ens1f0', mac: '52:54:bb:00:00:01' },
      { name: 'ens5', mac: '52:54:bb:00:00:05' },
    ],
    disks: [
      { device: 'sda', serial: 'A', holds: [{ device: 'sda', kind: 'gpt', label: '' }] },
      { device: 'sdb', serial: 'B', holds: [] },
    ],
  },
} as unknown as MachineView['facts'];

describe('inside and outside', () => {
  it('pairs interfaces by address, whatever its case', () => {
    expect(nicRows(facts).map((r) => [r.port, r.seen?.name ?? 'not seen'])).toEqual([
      ['port 1', 'ens1f0'],
      ['', 'ens5'],
      ['port 9', 'not seen'],
    ]);
  });
  it('pairs disks by serial number', () => {
    expect(diskRows(facts).map((r) => [r.drive, r.seen?.device ?? 'not seen'])).toEqual([
      ['bay 0', 'sda'],
      ['', 'sdb'],
      ['bay 7', 'not seen'],
    ]);
  });
  it('says what a disk holds', () => {
    const disk = {
      device: 'sda',
      holds: [
        { device: 'sda', kind: 'gpt', label: '' },
        { device: 'sda1', kind: 'ext4', label: 'old-archive' },
      ],
    } as never;
    expect(holdsText(disk)).toBe('gpt, sda1 ext4 “old-archive”');
    expect(holdsText({ device: 'sdb', holds: [] } as never)).toBe('');
  });
});
