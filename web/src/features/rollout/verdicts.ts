/** How an acceptance check came out: passed, failed, or not checked because nobody answered. */
import type { Verdict } from '../../lib/api/types';
import type { Mark } from '../../lib/ui/marks';

export type Outcome = 'passed' | 'failed' | 'open';

export const OUTCOME_WORDS: Record<Outcome, string> = {
  passed: 'passed',
  failed: 'failed',
  open: 'not checked',
};

export const OUTCOME_MARKS: Record<Outcome, Mark> = {
  passed: 'proved',
  failed: 'failed',
  open: 'planned',
};

export function outcomeOf(verdict: Verdict): Outcome {
  if (verdict.passed) return 'passed';
  return verdict.checked === false ? 'open' : 'failed';
}

/** Of several checks: failed wins over not checked, not checked over passed. */
export function together(outcomes: Outcome[]): Outcome {
  if (outcomes.includes('failed')) return 'failed';
  return outcomes.includes('open') ? 'open' : 'passed';
}
