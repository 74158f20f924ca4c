/** What of a plan's page is chosen: it stands in the address, so that it can be kept and sent. */
import type { Finding, PlanView } from '../../lib/api/types';
import { router } from '../../lib/router.svelte';
import { READINGS, type Reading } from '../wall/wall';

export type Shown = 'plan' | 'run' | 'acceptance';

/** What the right side of a plan's page can tell. */
export const QUESTIONS: [string, string][] = [
  ['', 'overview'],
  ['sizing', 'sizing'],
  ['places', 'placement'],
  ['losses', 'impact'],
  ['time', 'time'],
  ['history', 'history'],
];

export class Place {
  constructor(
    readonly id: string,
    readonly shown: Shown,
  ) {}

  get node(): string {
    return router.query.get('node') ?? '';
  }
  get column(): string {
    return router.query.get('column') ?? 'name';
  }
  get question(): string {
    return this.shown === 'plan' ? (router.query.get('ask') ?? '') : '';
  }
  get wall(): Reading {
    const asked = router.query.get('wall');
    return READINGS.find(([known]) => known === asked)?.[0] ?? 'memory';
  }
  base(shown: Shown = this.shown): string {
    return `/plans/${this.id}${shown === 'plan' ? '' : `/${shown}`}`;
  }
  /** Choose, and keep what is not named. */
  go(change: { node?: string; column?: string; question?: string; wall?: Reading }): void {
    const query = this.#kept({
      node: change.node ?? this.node,
      column: change.column ?? this.column,
    });
    const question = change.question ?? this.question,
      wall = change.wall ?? this.wall;
    if (question) query.set('ask', question);
    if (wall !== 'memory') query.set('wall', wall);
    router.go(`${this.base()}?${query}`, true);
  }
  /** In a run or its acceptance: a step, a node, or a check. */
  pick(name: 'step' | 'node' | 'proof', value: string): void {
    router.go(`${this.base()}?${this.#kept({ [name]: value })}`, true);
  }
  /** A query that also says which run is shown, where it is not the newest. */
  #kept(given: Record<string, string>): URLSearchParams {
    const query = new URLSearchParams(given);
    const run = router.query.get('run');
    if (run) query.set('run', run);
    return query;
  }
}

/** Where a finding is mended when it is not in a cell of the sheet. */
export type Mending =
  'licence' | 'packages' | 'secret' | 'bay' | 'check' | 'cell' | 'inspect' | 'machine' | 'adopt';

/** Findings about a machine that are mended on its page. */
const ON_ITS_PAGE = ['machine-on', 'machine-unread', 'machine-silent', 'drive-holds'];

export function mendingOf(finding: Finding, plan: PlanView): Mending {
  if (finding.code === 'licence') return 'licence';
  if (finding.code.startsWith('package')) return 'packages';
  if (finding.code.startsWith('certificate') || finding.code.startsWith('secret')) return 'secret';
  const column = plan.columns.find((one) => one.id === finding.column);
  if (finding.code === 'unanswered' && column?.kind === 'secret') return 'secret';
  if (finding.code === 'bay-missing') return 'bay';
  if (finding.code === 'machine-not-inspected') return 'inspect';
  if (finding.code === 'guest-unmarked') return 'adopt';
  if (ON_ITS_PAGE.includes(finding.code)) return 'machine';
  return finding.code === 'host-unread' ? 'check' : 'cell';
}

/** The machines of a plan that nobody has looked into. */
export function notInspected(plan: PlanView): string[] {
  const used = new Set(plan.nodes.map((node) => node.host));
  return plan.hosts
    .filter((host) => host.bare && used.has(host.name))
    .filter((host) => (host.drives ?? []).every((drive) => drive.holds === null))
    .map((host) => host.name);
}
