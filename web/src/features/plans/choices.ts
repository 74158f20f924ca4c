import type { ChoiceView } from '../../lib/api/types';

/** “Gauge Collector 4.2.0 · stable, signed”: what a person must know of a package before choosing it. */
export function choiceLabel(choice: ChoiceView): string {
  if (choice.why_not) return `${choice.title} · ${choice.why_not}`;
  const told = [
    choice.channel,
    choice.signature === 'verified' ? 'trusted publisher' : 'not signed',
  ];
  return `${choice.title} · ${told.filter(Boolean).join(', ')}`;
}
