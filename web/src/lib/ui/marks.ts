/** The states of a node or step, told by form; words for those who listen. */
export type Mark =
  'planned' | 'waiting' | 'working' | 'held' | 'done' | 'proved' | 'failed' | 'skipped' | 'undone';

export const WORDS: Record<Mark, string> = {
  planned: 'planned',
  waiting: 'waiting',
  working: 'working',
  held: 'held',
  done: 'done',
  proved: 'passed',
  failed: 'failed',
  skipped: 'skipped',
  undone: 'rolled back',
};
