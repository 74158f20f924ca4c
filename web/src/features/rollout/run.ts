/** What a run's page says and shows first. Pure. */
import type { RunView, Sentence, StepView } from '../../lib/api/types';
import { moment, zone } from '../../lib/format';

/** States that a person looks at first, the most urgent first. */
const URGENT = ['failed', 'waiting', 'working', 'undoing'];

/** The step that is named, else the most urgent one of a node (or of all), else the last that is done. */
export function chosenStep(run: RunView, key: string, node: string): StepView | undefined {
  const own = run.steps.filter((one) => !node || one.node === node);
  const urgent = (steps: StepView[]) =>
    steps
      .filter((one) => URGENT.includes(one.state))
      .sort((a, b) => URGENT.indexOf(a.state) - URGENT.indexOf(b.state))[0];
  return (
    run.steps.find((one) => one.key === key) ??
    urgent(own) ??
    urgent(run.steps) ??
    own.filter((one) => one.state === 'done').at(-1) ??
    own[0]
  );
}

function endOf(run: RunView): string {
  if (run.undone_at) return `rolled back ${moment(run.undone_at)}`;
  return run.ended_at ? `ended ${moment(run.ended_at)}` : '';
}

/** The run's sentence, and below it when it began and how long it takes. */
export function sentenceOf(run: RunView): Sentence {
  const parts = [`started ${moment(run.started_at)} ${zone()}`, endOf(run), run.sentence.below];
  return { ...run.sentence, below: parts.filter(Boolean).join(' · ') };
}

export function acceptanceSentence(run: RunView): Sentence {
  const below = run.proved_at ? `checked ${moment(run.proved_at)} ${zone()}` : '';
  return { ...run.proof_sentence, below };
}

/** Share of a run's steps that have ended, 0 to 1. */
export function shareDone(run: RunView): number {
  const ended = run.steps.filter((one) => one.state === 'done' || one.state === 'skipped').length;
  return run.steps.length ? ended / run.steps.length : 0;
}
