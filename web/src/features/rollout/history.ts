/** The history of a deployment as its page shows it: pure. */
import type { HistoryEntry } from '../../lib/api/types';

/** What can be shown alone. */
export const KINDS: [string, string][] = [
  ['', 'all'],
  ['run', 'runs'],
  ['checks', 'checks'],
  ['plan', 'plan'],
  ['drift', 'drift'],
];

export interface Day {
  name: string;
  entries: HistoryEntry[];
}

const date = (at: number) =>
  new Date(at * 1000).toLocaleDateString('en', {
    weekday: 'short',
    year: 'numeric',
    month: 'short',
    day: 'numeric',
  });

export const timeOf = (at: number): string =>
  new Date(at * 1000).toLocaleTimeString('en', {
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    hour12: false,
  });

/** Entries by day, as they come: the newest first. */
export function byDay(entries: HistoryEntry[]): Day[] {
  const days: Day[] = [];
  for (const entry of entries) {
    const name = date(entry.at);
    const last = days.at(-1);
    if (last?.name === name) last.entries.push(entry);
    else days.push({ name, entries: [entry] });
  }
  return days;
}

/** The day of an instant as a date field has it, in UTC: deployments are compared by UTC days. */
export const dayOf = (at: number): string => new Date(at * 1000).toISOString().slice(0, 10);
export const today = (): string => dayOf(Date.now() / 1000);

/** The last instant of a day, in seconds. */
export const endOf = (day: string): number => Date.parse(`${day}T23:59:59.999Z`) / 1000;
