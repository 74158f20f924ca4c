/** What the overview and the list of runs show. Pure: plans and runs in, groups and rows out. */
import type { GroundLine, PlanLine, RunLine } from '../../lib/api/types';
import type { Mark } from '../../lib/ui/marks';

export const MARKS: Record<string, Mark> = {
  running: 'working',
  held: 'held',
  trouble: 'failed',
  proving: 'working',
  done: 'proved',
  unproved: 'failed',
  undoing: 'working',
  undone: 'undone',
};

export interface Groups {
  /** Stopped or on hold, or with checks that failed: a person decides. */
  attention: PlanLine[];
  running: PlanLine[];
  deployed: PlanLine[];
  /** Never deployed, or rolled back. */
  planned: PlanLine[];
}

const WAITS = ['trouble', 'held', 'unproved'];
const MOVES = ['running', 'proving', 'undoing'];

/** Plans by what is to be done about them, each in one group only. */
export function grouped(plans: PlanLine[]): Groups {
  const found: Groups = { attention: [], running: [], deployed: [], planned: [] };
  for (const plan of plans) {
    const state = plan.run?.state ?? '';
    if (WAITS.includes(state) || (state === 'done' && plan.drift)) found.attention.push(plan);
    else if (MOVES.includes(state)) found.running.push(plan);
    else if (state === 'done') found.deployed.push(plan);
    else found.planned.push(plan);
  }
  return found;
}

/** One run in the list, whatever its kind. Times in seconds since 1970. */
export interface RunRow {
  id: string;
  kind: 'rollout' | 'host preparation';
  what: string;
  words: string;
  state: string;
  started: number;
  ended: number | null;
  href: string;
}

const GROUND: Record<string, string> = {
  running: 'running',
  trouble: 'needs attention',
  held: 'on hold',
  proving: 'refreshing hosts',
  done: 'done',
  unproved: 'done, not all refreshed',
  undoing: 'rolling back',
  undone: 'rolled back',
};

/** All runs: those that have not ended first, then the newest. */
export function rows(
  rollouts: RunLine[],
  preparations: GroundLine[],
  titles: ReadonlyMap<string, string>,
): RunRow[] {
  const all: RunRow[] = [
    ...rollouts.map((r): RunRow => {
      return {
        id: r.id,
        kind: 'rollout',
        what: titles.get(r.plan) ?? r.plan,
        words: r.words.short,
        state: r.state,
        started: r.started_at,
        ended: r.undone_at ?? r.ended_at,
        // a run of a plan that is gone is read in its report
        href: titles.has(r.plan)
          ? `/plans/${r.plan}/run?run=${r.id}`
          : `/api/runs/${r.id}/acceptance.html`,
      };
    }),
    ...preparations.map((g): RunRow => {
      return {
        id: g.id,
        kind: 'host preparation',
        what: `${g.hosts}: ${g.what}`,
        words: GROUND[g.state] ?? g.state,
        state: g.state,
        started: g.started_at,
        ended: null,
        href: `/estate/groundwork/${g.id}`,
      };
    }),
  ];
  return all.sort((a, b) => Number(isOpen(b)) - Number(isOpen(a)) || b.started - a.started);
}

/** Whether a run is still going on, or waits for a person. */
export function isOpen(row: { state: string }): boolean {
  return [...MOVES, 'trouble', 'held'].includes(row.state);
}

/** Rows that contain every word that was typed, in any case. */
export function matching(all: RunRow[], typed: string): RunRow[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  return all.filter((row) => {
    const text = `${row.id} ${row.kind} ${row.what} ${row.words}`.toLowerCase();
    return words.every((word) => text.includes(word));
  });
}

/** What the list of runs can be narrowed to, beside words. */
export type Standing = 'all' | 'open' | 'attention' | 'passed' | 'undone';
export const STANDINGS: [Standing, string][] = [
  ['all', 'all states'],
  ['open', 'not finished'],
  ['attention', 'needs attention'],
  ['passed', 'done'],
  ['undone', 'rolled back'],
];
export const SINCE: [number, string][] = [
  [0, 'any time'],
  [86400, 'last 24 hours'],
  [7 * 86400, 'last 7 days'],
  [30 * 86400, 'last 30 days'],
];

/** Runs of a state, and begun within so many seconds (0: whenever). Runs that go on are of any time. */
export function narrowed(
  all: RunRow[],
  standing: Standing,
  seconds: number,
  now: number,
): RunRow[] {
  const fits: Record<Standing, (row: RunRow) => boolean> = {
    all: () => true,
    open: isOpen,
    attention: (row) => WAITS.includes(row.state),
    passed: (row) => row.state === 'done',
    undone: (row) => row.state === 'undone',
  };
  return all.filter(
    (row) => fits[standing](row) && (!seconds || isOpen(row) || now - row.started <= seconds),
  );
}
