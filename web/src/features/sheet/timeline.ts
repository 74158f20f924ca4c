/** A run's steps in time: which rows there are, and where a step's bar lies. Pure. Times in seconds from the run's start. */
import type { RunView, StepView } from '../../lib/api/types';
import type { Mark } from '../../lib/ui/marks';
import { stateOf } from '../rollout/states';
import type { Progress } from '../rollout/rollout.svelte';

export interface Row {
  id: string;
  name: string;
  /** Which role's colour; -1: a row of steps that all nodes share. */
  role: number;
  text: string;
  steps: StepView[];
}

export type States = Map<string, { mark: Mark; share: number; text?: string }>;

/** A row a node, then one for what nodes share: the cluster, and each place an image is copied to. */
export function rowsOf(run: RunView, states: States, progress: Progress): Row[] {
  const by = new Map<string, StepView[]>();
  for (const step of run.steps) by.set(step.node, [...(by.get(step.node) ?? []), step]);
  const nodes = run.nodes.map((n) => ({
    id: n.id,
    name: n.name,
    role: n.role_index,
    text: states.get(n.id)?.text ?? '',
    steps: by.get(n.id) ?? [],
  }));
  const common = new Map<string, StepView[]>();
  for (const step of by.get('') ?? []) {
    const place = step.kind === 'call' ? 'cluster' : step.label.replace(/^Copy image to /, '');
    common.set(place, [...(common.get(place) ?? []), step]);
  }
  const others = [...common].map(([name, steps]) => ({
    id: `:${name}`,
    name,
    role: -1,
    text: stateOf(steps, run, progress).text.replace(/^deployed.*/, 'done'),
    steps,
  }));
  return [...nodes, ...others];
}

/** Seconds that the whole width stands for. */
export function reachOf(run: RunView, elapsed: number): number {
  const ahead = run.ended_at ? 0 : Math.max(0, ...run.steps.map((step) => step.end_s));
  return Math.max(10, elapsed * 1.02, ahead);
}

const STEPS = [5, 10, 15, 30, 60, 120, 300, 600, 1800, 3600, 7200];

/** Pixels that “+12 min 30 s” needs. */
const MARK = 92;

/** Where the time is written: at most eight round numbers, and no more than fit `width` pixels. */
export function ticksOf(reach: number, width: number): number[] {
  const most = Math.min(7, Math.max(1, Math.floor(width / MARK)));
  const step = STEPS.find((one) => reach / one <= most) ?? 14400;
  return Array.from({ length: Math.floor(reach / step) + 1 }, (_, i) => i * step);
}

export interface Span {
  from: number;
  to: number;
  /** Until when it is expected to last; `to` where it has ended. */
  room: number;
}

/** When a step began and ended, as far as that is known. */
export function spanOf(step: StepView, run: RunView, elapsed: number): Span {
  const from = step.started_at ? step.started_at - run.started_at : step.start_s;
  const works = step.state === 'working' || step.state === 'waiting';
  const to = Math.max(from, endOf(step, run, elapsed, works));
  return { from, to, room: works ? Math.max(to, from + step.expected_s) : to };
}

function endOf(step: StepView, run: RunView, elapsed: number, works: boolean): number {
  if (step.ended_at) return step.ended_at - run.started_at;
  const undone = run.undone_at !== null || run.state === 'undoing';
  if ((undone && step.started_at) || works) return elapsed;
  return step.end_s;
}
