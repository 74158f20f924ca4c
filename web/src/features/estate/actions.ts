/** From what a person chose to the actions that are meant. Pure. */
import type { Action, EstateView, OneHost } from '../../lib/api/types';

export type Kind =
  | 'ssh-key'
  | 'refuse-passwords'
  | 'names'
  | 'time-source'
  | 'isolated-network'
  | 'carry-network'
  | 'datastore-folder'
  | 'datastore-disk'
  | 'datastore-nfs'
  | 'rename-datastore'
  | 'fencing-volume'
  | 'wipe-disk';
export const KINDS: [string, [Kind, string][]][] = [
  [
    'Login and names',
    [
      ['ssh-key', 'an SSH key'],
      ['refuse-passwords', 'refuse passwords'],
      ['names', 'name records'],
      ['time-source', 'a time server'],
    ],
  ],
  [
    'Networks',
    [
      ['carry-network', 'a network'],
      ['isolated-network', 'an isolated network'],
    ],
  ],
  [
    'Datastores',
    [
      ['datastore-folder', 'in a folder'],
      ['datastore-disk', 'on a free disk'],
      ['datastore-nfs', 'from an NFS export'],
      ['rename-datastore', 'rename'],
      ['fencing-volume', 'a fencing volume'],
    ],
  ],
  ['Disks', [['wipe-disk', 'wipe disks']]],
];
export const ABOUT: Record<Kind, string> = {
  'ssh-key':
    'Creates a key, adds it to each host and tests it; then logins use it. The password stays in the keyring until you delete it.',
  'refuse-passwords': 'SSH accepts keys only. Refused for hosts whose login uses a password.',
  names: 'Lines in /etc/hosts, each tagged with the run.',
  'time-source': 'A source file for chrony, applied at once.',
  'carry-network':
    'A bridge over a VLAN of an interface, kept after a restart, with the network on it.',
  'isolated-network': 'A network without uplink: VMs of one host only.',
  'datastore-folder': 'A folder of an existing file system becomes a datastore.',
  'datastore-disk': 'A whole free disk is formatted, mounted, and becomes a datastore.',
  'datastore-nfs': 'Hosts that mount the same export share the datastore.',
  'rename-datastore': 'Refused while a VM uses the datastore by name.',
  'fencing-volume': 'A small volume on a shared datastore, seen by every host of the bay.',
  'wipe-disk': 'Erases all signatures. Data cannot be restored. Disks in use are not listed.',
};

export interface Form {
  key: string;
  records: string;
  server: string;
  network: string;
  bridge: string;
  uplink: string;
  vlan: string;
  mtu: string;
  address: string;
  name: string;
  path: string;
  nfsServer: string;
  nfsExport: string;
  from: string;
  datastore: string;
  disks: Record<string, string[]>;
}
export const EMPTY: Form = {
  key: 'rollout-key',
  records: '',
  server: '',
  network: '',
  bridge: '',
  uplink: '',
  vlan: '',
  mtu: '1500',
  address: '',
  name: '',
  path: '',
  nfsServer: '',
  nfsExport: '',
  from: '',
  datastore: '',
  disks: {},
};

const filled = (pattern: string, host: string): string => pattern.replaceAll('{host}', host);
export const bridgeFor = (network: string): string =>
  `br-${network.replace(/[^A-Za-z0-9._-]/g, '-')}`.slice(0, 15).replace(/[-.]+$/, '');

/** `address/prefix` counted up by n; '' stays ''. */
export function counted(address: string, n: number): string {
  const [ip, prefix] = address.split('/');
  const parts = (ip ?? '').split('.').map(Number);
  if (!ip || !prefix || parts.length !== 4 || parts.some((p) => !(p >= 0 && p <= 255)))
    return address;
  let number = parts.reduce((sum, part) => sum * 256 + part, 0) + n;
  const out: number[] = [];
  for (let i = 0; i < 4; i++) {
    out.unshift(number % 256);
    number = Math.floor(number / 256);
  }
  return `${out.join('.')}/${prefix}`;
}

export function actionsOf(
  kind: Kind,
  form: Form,
  hosts: string[],
  details: Record<string, OneHost>,
  publicKey: string,
  estate: EstateView,
): Action[] {
  const each = (make: (host: string, n: number) => object | null): Action[] =>
    hosts
      .map(make)
      .filter((a) => a !== null)
      .map((a) => a as Action);
  switch (kind) {
    case 'ssh-key':
      return publicKey
        ? each((host) => ({ kind, host, credential: form.key, public: publicKey }))
        : [];
    case 'refuse-passwords':
      return each((host) => ({ kind, host }));
    case 'time-source':
      return form.server ? each((host) => ({ kind, host, server: form.server })) : [];
    case 'names': {
      const records = form.records
        .split('\n')
        .map((line) => line.trim().split(/\s+/))
        .filter((w) => w.length > 1 && w[0])
        .map(([address, ...names]) => ({ address, names: names.slice(0, 4) }));
      return records.length ? each((host) => ({ kind, host, records })) : [];
    }
    case 'isolated-network':
      return form.name
        ? each((host) => ({
            kind,
            host,
            name: form.name,
            bridge: form.bridge || `in-${form.name}`.slice(0, 15),
          }))
        : [];
    case 'carry-network': {
      if (!form.network || !form.uplink) return [];
      return each((host, n) => {
        const one = details[host];
        if (!one) return null;
        const setup = one.facts.network_setup || 'networkd';
        return {
          kind,
          host,
          network: form.network,
          bridge: form.bridge || bridgeFor(form.network),
          uplink: form.uplink,
          vlan: form.vlan ? Number(form.vlan) : null,
          mtu: Number(form.mtu) || 1500,
          address: form.address ? counted(form.address, n) : null,
          setup,
          uplink_config: one.facts.interfaces?.find((i) => i.name === form.uplink)?.config ?? '',
        };
      });
    }
    case 'datastore-folder':
      return form.name && form.path
        ? each((host) => ({
            kind,
            host,
            name: filled(form.name, host),
            path: filled(form.path, host),
          }))
        : [];
    case 'datastore-disk':
      return form.name
        ? hosts.flatMap((host) =>
            (form.disks[host] ?? []).map(
              (device, n) =>
                ({
                  kind,
                  host,
                  name: filled(form.name, host) + (n ? `-${n + 1}` : ''),
                  device,
                }) as Action,
            ),
          )
        : [];
    case 'datastore-nfs':
      return form.name && form.nfsServer && form.nfsExport
        ? each((host) => ({
            kind,
            host,
            name: form.name,
            server: form.nfsServer,
            export: form.nfsExport,
          }))
        : [];
    case 'rename-datastore':
      return form.from && form.name
        ? each((host) => ({
            kind,
            host,
            name: filled(form.from, host),
            to: filled(form.name, host),
          }))
        : [];
    case 'fencing-volume': {
      const first = hosts.find((name) =>
        estate.hosts
          .find((h) => h.name === name)
          ?.stores.some((s) => s.name === form.datastore && s.shared),
      );
      return form.datastore && form.name && first
        ? [{ kind, host: first, datastore: form.datastore, name: form.name }]
        : [];
    }
    case 'wipe-disk':
      return hosts
        .flatMap((host) =>
          (form.disks[host] ?? []).map((device) => {
            const disk = details[host]?.facts.disks?.find((d) => d.path === device);
            return disk
              ? ({
                  kind,
                  host,
                  device,
                  serial: disk.serial ?? '',
                  size_bytes: disk.size_bytes,
                  content: disk.why ?? '',
                  parts: disk.parts ?? [],
                } as Action)
              : null;
          }),
        )
        .filter((a) => a !== null);
  }
}

/** Hosts whose details are read for a form. */
export const MOST = 24;

/** What is decided about a new datastore: percent as typed, and its class. */
export interface StoreCare {
  watermark: string;
  protection: '' | 'protected' | 'disposable';
}
