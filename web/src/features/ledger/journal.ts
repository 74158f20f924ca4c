import type { RunView, StepView } from '../../lib/api/types';
import { inside } from '../../lib/format';

/** Kinds of journal entries in words; the same as the terminal's (core/run_words.py). */
const WORDS: Record<string, string> = {
  'run-started': 'started',
  'taken-up': 'resumed after server restart',
  'going-on': 'deploying',
  stuck: 'stopped: a step failed',
  held: 'on hold',
  'hold-asked': 'hold requested',
  resumed: 'resumed',
  released: 'looked at, to be continued',
  'kit-taken': 'corrected kit taken over',
  'undo-left': 'left as it is',
  'retry-asked': 'retry requested',
  'no-longer': 'to be done again',
  'undo-asked': 'rollback requested',
  proving: 'running acceptance checks',
  proved: 'all acceptance checks passed',
  'not-proved': 'not all acceptance checks passed',
  'taken-back': 'rolled back',
  restored: 'on hold: restored from a backup',
  begun: 'started',
  'try-again': 'attempt failed, trying again',
  undoing: 'rolling back',
  undone: 'rolled back',
  'undo-failed': 'rollback failed',
  'lost-contact': 'lost contact, still waiting',
  'contact-again': 'contact again',
  'wait-extended': 'wait extended',
  'wait-end-asked': 'wait ended',
};
/** Entries that a short list leaves out: they begin what another one ends. */
const SMALL = new Set(['begun', 'acting', 'undoing', 'going-on', 'held', 'proving', 'stuck']);

export const eventWords = (kind: string): string => WORDS[kind] ?? kind;

export const tells = (kind: string): boolean => !SMALL.has(kind);

/** Where a step is that is no node's: one of the setup is the cluster's, wherever its first node is. */
export function placeOf(step: StepView): string {
  return step.kind === 'call' || step.kind === 'stage' ? 'cluster' : step.host;
}

export function stepName(run: RunView, key: string): string {
  if (!key) return 'Run';
  const step = run.steps.find((one) => one.key === key);
  if (!step) return key;
  const node = run.nodes.find((one) => one.id === step.node)?.short ?? placeOf(step);
  return `${node} ${inside(step.label)}`;
}
