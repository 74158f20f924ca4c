/** Where the palette leads: fixed places, plans and runs that are known, and what the server finds. */
import type { HitView, PlanLine } from '../../lib/api/types';

export interface Destination {
  /** What kind of thing it is, in a word. */
  kind: string;
  text: string;
  detail?: string;
  href: string;
}

export const PLACES: Destination[] = [
  { kind: 'page', text: 'Overview', href: '/' },
  { kind: 'page', text: 'All plans', href: '/plans' },
  { kind: 'page', text: 'All runs', href: '/runs' },
  { kind: 'page', text: 'Plans from a table', href: '/plans?see=table' },
  { kind: 'page', text: 'Shared values', href: '/plans?see=values' },
  { kind: 'page', text: 'Estate', href: '/estate' },
  { kind: 'page', text: 'Estate: readiness', href: '/estate?see=fitness' },
  { kind: 'page', text: 'Estate: networks', href: '/estate?see=networks' },
  { kind: 'page', text: 'Estate: pools', href: '/estate?see=pools' },
  { kind: 'page', text: 'Estate: drives', href: '/estate?see=drives' },
  { kind: 'page', text: 'Estate: host preparation', href: '/estate?see=groundwork' },
  { kind: 'page', text: 'Packages', href: '/packages' },
  { kind: 'page', text: 'Kits', href: '/kits' },
  { kind: 'page', text: 'Keyring', href: '/keyring' },
  { kind: 'page', text: 'Guide', href: '/help/guide' },
  { kind: 'page', text: 'Glossary', href: '/help/glossary' },
];

export function ofPlans(plans: PlanLine[]): Destination[] {
  return plans.flatMap((plan) => {
    const found = [{ kind: 'plan', text: plan.title, detail: plan.id, href: `/plans/${plan.id}` }];
    if (plan.run) {
      const path = `/plans/${plan.id}`;
      found.push(
        { kind: 'run', text: `Run of ${plan.title}`, detail: plan.id, href: `${path}/run` },
        {
          kind: 'acceptance',
          text: `Acceptance of ${plan.title}`,
          detail: plan.id,
          href: `${path}/acceptance`,
        },
      );
    }
    return found;
  });
}

function addressOf(hit: HitView): string {
  const ident = encodeURIComponent(hit.ident);
  const [node = '', column = ''] = hit.part.split('/');
  switch (hit.kind) {
    case 'host':
      return `/estate/hosts/${ident}`;
    case 'machine':
      return `/estate/machines/${ident}`;
    case 'package':
      return `/packages/${ident}`;
    case 'run':
      return `/plans/${encodeURIComponent(hit.part)}/run?run=${ident}`;
    case 'preparation':
      return `/estate/groundwork/${ident}`;
    case 'node':
      return `/plans/${ident}?node=${encodeURIComponent(hit.part)}&column=name`;
    case 'address':
      return `/plans/${ident}?node=${encodeURIComponent(node || '*')}&column=${encodeURIComponent(column)}`;
  }
}

export const ofHits = (hits: HitView[]): Destination[] =>
  hits.map((hit) => ({
    kind: hit.kind,
    text: hit.name,
    detail: hit.detail,
    href: addressOf(hit),
  }));

/** Those that hold every word of a query; the ones that begin with it come first. */
export function matching(all: Destination[], query: string): Destination[] {
  const words = query.toLowerCase().split(/\s+/).filter(Boolean);
  const text = (one: Destination) => `${one.kind} ${one.text} ${one.detail ?? ''}`.toLowerCase();
  const found = all.filter((one) => words.every((word) => text(one).includes(word)));
  const first = (one: Destination) => one.text.toLowerCase().startsWith(query.toLowerCase());
  return [...found.filter(first), ...found.filter((one) => !first(one))];
}
