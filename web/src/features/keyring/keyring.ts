import type { KeyringEntry } from '../../lib/api/types';

/** Entries whose name, owner or plans contain what was typed, in any case. */
export function matching(entries: KeyringEntry[], typed: string): KeyringEntry[] {
  const wanted = typed.trim().toLowerCase();
  if (!wanted) return entries;
  return entries.filter((entry) =>
    [entry.name, entry.owner, ...entry.plans].some((text) => text.toLowerCase().includes(wanted)),
  );
}
