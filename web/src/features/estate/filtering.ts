/** Which hosts and machines a filter lets through, and what the estate's page can show. Pure. */
import type { EstateView } from '../../lib/api/types';

export const SEE: [string, string][] = [
  ['facts', 'facts'],
  ['fitness', 'readiness'],
  ['networks', 'networks'],
  ['pools', 'pools'],
  ['drives', 'drives'],
  ['groundwork', 'preparation'],
  ['limits', 'run limits'],
];

const holds = (texts: (string | null | undefined)[], filter: string): boolean =>
  filter === '' || texts.some((text) => text?.toLowerCase().includes(filter.toLowerCase()));

export const fittingHosts = (hosts: EstateView['hosts'], filter: string): EstateView['hosts'] =>
  hosts.filter((h) =>
    holds(
      [
        h.name,
        h.bay,
        h.rack ?? '',
        h.site,
        h.address,
        h.note,
        ...(h.tags ?? []),
        ...h.networks,
        ...h.bedrock.map((b) => b.name),
      ],
      filter,
    ),
  );

export const fittingMachines = (
  machines: EstateView['machines'],
  filter: string,
): EstateView['machines'] =>
  machines.filter(({ machine: m, facts }) =>
    holds([m.name, m.bay, m.rack ?? '', m.site, m.address, facts.model, ...(m.tags ?? [])], filter),
  );
