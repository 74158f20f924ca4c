/** What was seen inside a machine beside what its controller says. Pure. */
import type { MachineView } from '../../lib/api/types';

type Facts = MachineView['facts'];
type Inside = NonNullable<Facts['inside']>;
export type InsideNic = NonNullable<Inside['nics']>[number];
export type InsideDisk = NonNullable<Inside['disks']>[number];

export interface NicRow {
  /** The controller's name of the port, '' when it lists none with this address. */
  port: string;
  mac: string;
  /** As the system sees it, null when it does not. */
  seen: InsideNic | null;
}

export interface DiskRow {
  /** The controller's name of the drive, '' when it lists none with this serial number. */
  drive: string;
  serial: string;
  seen: InsideDisk | null;
}

/** Interfaces by their address, those that only one side knows among them. */
export function nicRows(facts: Facts): NicRow[] {
  const told = facts.nics ?? [];
  const rows: NicRow[] = (facts.inside?.nics ?? []).map((seen) => ({
    port: told.find((n) => n.mac?.toLowerCase() === seen.mac?.toLowerCase())?.name ?? '',
    mac: seen.mac ?? '',
    seen,
  }));
  const known = new Set(rows.map((r) => r.mac.toLowerCase()));
  for (const n of told)
    if (n.mac && !known.has(n.mac.toLowerCase()))
      rows.push({ port: n.name, mac: n.mac, seen: null });
  return rows;
}

/** Disks by their serial number, those that only one side knows among them. */
export function diskRows(facts: Facts): DiskRow[] {
  const told = facts.drives ?? [];
  const rows: DiskRow[] = (facts.inside?.disks ?? []).map((seen) => ({
    drive: told.find((d) => d.serial && d.serial === seen.serial)?.name ?? '',
    serial: seen.serial ?? '',
    seen,
  }));
  const known = new Set(rows.map((r) => r.serial));
  for (const d of told)
    if (d.serial && !known.has(d.serial))
      rows.push({ drive: d.name, serial: d.serial, seen: null });
  return rows;
}

/** Disks by their serial numbers, as a request names them: what was seen is what is confirmed. */
export function drivesOf(facts: Facts, serials: string[]) {
  return (facts.inside?.disks ?? [])
    .filter((d) => d.serial && serials.includes(d.serial))
    .map((d) => ({ serial: d.serial!, size_bytes: d.size_bytes ?? 0, holds: d.holds ?? [] }));
}

/** What a disk holds, in a few words; '' when nothing was recognised on it. */
export function holdsText(disk: InsideDisk): string {
  return (disk.holds ?? [])
    .map(
      (sign) =>
        `${sign.device === disk.device ? '' : `${sign.device} `}${sign.kind}${sign.label ? ` “${sign.label}”` : ''}`,
    )
    .join(', ');
}
