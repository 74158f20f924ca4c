/** A network as somebody types it. Pure. */
import type { EstateView } from '../../lib/api/types';

const TYPED = [
  'name',
  'subnet',
  'gateway',
  'vlan',
  'mtu',
  'dns',
  'ntp',
  'domain',
  'subnet6',
  'gateway6',
  'dynamic_first',
  'dynamic_last',
  'name_server',
  'name_port',
  'name_key',
  'name_algorithm',
  'name_credential',
] as const;

export type Fields = Record<(typeof TYPED)[number], string>;

/** The fields of a network that is there; all empty for a new one. */
export function fieldsOf(network: EstateView['networks'][number] | null): Fields {
  const texts = TYPED.map((id): [string, string] => {
    const value = network?.[id] ?? '';
    return [id, Array.isArray(value) ? value.join(' ') : String(value)];
  });
  return Object.fromEntries(texts) as Fields;
}
