import { describe, expect, it } from 'vitest';
import type { EstateView, OneHost } from '../../lib/api/types';
import { actionsOf, bridgeFor, counted, EMPTY, type Kind } from './actions';

const detail = (disks: object[] = [], interfaces: object[] = []) =>
  ({ facts: { disks, interfaces, network_setup: 'ifupdown' } }) as unknown as OneHost;
const estate = (stores: Record<string, object[]>) =>
  ({
    hosts: Object.entries(stores).map(([name, of]) => ({ name, stores: of })),
  }) as unknown as EstateView;
const meant = (
  kind: Kind,
  form: object,
  hosts = ['tern', 'skua'],
  details: Record<string, OneHost> = {},
  view = estate({}),
  key = '',
) => actionsOf(kind, { ...EMPTY, ...form }, hosts, details, key, view);

describe('addresses and names', () => {
  it('counts addresses over the end of an octet', () => {
    expect(counted('10.44.7.254/24', 3)).toBe('10.44.8.1/24');
    expect(counted('', 3)).toBe('');
  });
  it('leaves what is no address as it was typed', () => {
    for (const text of ['10.44.7/24', '10.44.7.300/24', 'tern', '10.44.7.1'])
      expect(counted(text, 2)).toBe(text);
  });
  it('names bridges as the kernel allows: fifteen characters, nothing odd, no dash at the end', () => {
    expect(bridgeFor('survey')).toBe('br-survey');
    expect(bridgeFor('guest net 7')).toBe('br-guest-net-7');
    expect(bridgeFor('storage-net-a-long')).toBe('br-storage-net');
  });
});

describe('actions', () => {
  it('are none until what they need is typed', () => {
    for (const kind of [
      'ssh-key',
      'time-source',
      'names',
      'isolated-network',
      'carry-network',
      'datastore-folder',
      'datastore-disk',
      'datastore-nfs',
      'rename-datastore',
      'fencing-volume',
      'wipe-disk',
    ] as Kind[])
      expect(meant(kind, {}), kind).toEqual([]);
  });
  it('are one for each chosen host, its name filled in', () => {
    expect(meant('datastore-folder', { name: '{host}-data', path: '/srv/{host}' })).toEqual([
      { kind: 'datastore-folder', host: 'tern', name: 'tern-data', path: '/srv/tern' },
      { kind: 'datastore-folder', host: 'skua', name: 'skua-data', path: '/srv/skua' },
    ]);
  });
  it('read name records line by line and drop what has no name', () => {
    expect(
      meant('names', { records: '10.45.1.15 tern.example tern\n\n10.45.1.16\n' }, ['knot']),
    ).toEqual([
      {
        kind: 'names',
        host: 'knot',
        records: [{ address: '10.45.1.15', names: ['tern.example', 'tern'] }],
      },
    ]);
  });
  it('a network with the host’s own way of set-up, addresses counted, and skip hosts nobody has read', () => {
    const made = meant(
      'carry-network',
      { network: 'survey', uplink: 'eno2', vlan: '420', address: '10.44.8.15/24' },
      ['tern', 'skua', 'knot'],
      { tern: detail([], [{ name: 'eno2', config: 'interfaces' }]), knot: detail() },
    );
    expect(made).toHaveLength(2);
    expect(made[0]).toMatchObject({
      host: 'tern',
      bridge: 'br-survey',
      vlan: 420,
      mtu: 1500,
      address: '10.44.8.15/24',
      setup: 'ifupdown',
      uplink_config: 'interfaces',
    });
    expect(made[1]).toMatchObject({ host: 'knot', address: '10.44.8.17/24', uplink_config: '' });
  });
  it('number the second datastore of a host and leave hosts without a chosen disk alone', () => {
    expect(
      meant('datastore-disk', { name: '{host}-data', disks: { skua: ['/dev/sdb', '/dev/sdc'] } }),
    ).toEqual([
      { kind: 'datastore-disk', host: 'skua', name: 'skua-data', device: '/dev/sdb' },
      { kind: 'datastore-disk', host: 'skua', name: 'skua-data-2', device: '/dev/sdc' },
    ]);
  });
  it('wipe only a disk that was read, and say what was seen on it', () => {
    const details = {
      tern: detail([
        {
          path: '/dev/sdc',
          serial: 'S1',
          size_bytes: 4096,
          why: 'remains of ext4',
          parts: ['/dev/sdc1'],
        },
      ]),
    };
    expect(
      meant('wipe-disk', { disks: { tern: ['/dev/sdc', '/dev/sdz'] } }, ['tern'], details),
    ).toEqual([
      {
        kind: 'wipe-disk',
        host: 'tern',
        device: '/dev/sdc',
        serial: 'S1',
        size_bytes: 4096,
        content: 'remains of ext4',
        parts: ['/dev/sdc1'],
      },
    ]);
  });
  it('make one fencing volume, on the first host that sees the shared datastore', () => {
    const view = estate({
      tern: [{ name: 'common', shared: false }],
      skua: [{ name: 'common', shared: true }],
    });
    expect(
      meant('fencing-volume', { datastore: 'common', name: 'fence' }, ['tern', 'skua'], {}, view),
    ).toEqual([{ kind: 'fencing-volume', host: 'skua', datastore: 'common', name: 'fence' }]);
  });
  it('put a key only when there is one', () => {
    expect(meant('ssh-key', {}, ['tern'], {}, estate({}), 'ssh-ed25519 AAAA')).toEqual([
      { kind: 'ssh-key', host: 'tern', credential: 'rollout-key', public: 'ssh-ed25519 AAAA' },
    ]);
  });
});
