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
    if (WAITS.includes(state)) found.attention.push(plan);
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
  // a plan's page shows its newest run; an older one is read in its report
  const newest = new Map<string, string>();
  for (const r of rollouts) if (!newest.has(r.plan)) newest.set(r.plan, r.id);
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
        href:
          newest.get(r.plan) === r.id
            ? `/plans/${r.plan}/run`
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
