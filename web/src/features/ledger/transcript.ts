import type { Entry } from '../../lib/api/types';

/** A command in one line, without what all of them begin with. */
export function brief(command: string): string {
  const line = command.split('\n')[0] ?? '';
  return line.replace(/^LC_ALL=C timeout -k 2 \d+ /, '').replace(/ -q -c \S+:\/\/\/\S+/, '');
}

/** The first lines of an answer, and how many more there are. */
export function firstLines(answer: string, most = 3): string {
  const lines = answer.trimEnd().split('\n');
  if (lines.length <= most) return lines.join('\n');
  return [...lines.slice(0, most), `… ${lines.length - most} more lines`].join('\n');
}

/** Whether an entry contains what was typed, in any case. */
export function matches(entry: Entry, typed: string): boolean {
  const wanted = typed.trim().toLowerCase();
  if (!wanted) return true;
  return [entry.command, entry.answer, entry.target].some((text) =>
    text.toLowerCase().includes(wanted),
  );
}
