/** A secret's rule, part by part, and whether what is typed keeps each: shown while somebody types. */
import type { LimitsView } from './api/types';

export interface Part {
  text: string;
  met: boolean;
}
const KINDS: [string, RegExp][] = [
  ['lower case', /\p{Ll}/u],
  ['upper case', /\p{Lu}/u],
  ['digits', /\p{Nd}/u],
  ['signs', /[^\p{L}\p{N}]/u],
];

export function partsOf(value: string, limits: LimitsView | null | undefined): Part[] {
  if (!limits) return [];
  const length = [...value].length,
    has = KINDS.filter(([, kind]) => kind.test(value)).map(([name]) => name),
    lacks = KINDS.filter(([, kind]) => !kind.test(value)).map(([name]) => name);
  const found: Part[] = [];
  if (limits.least > 0)
    found.push({
      text: `at least ${limits.least} characters: ${length < limits.least ? `${length}, ${limits.least - length} more` : String(length)}`,
      met: length >= limits.least,
    });
  if (limits.most < 4096)
    found.push({
      text: `at most ${limits.most} characters: ${length}`,
      met: length <= limits.most,
    });
  if (limits.classes > 0)
    found.push({
      text: `${limits.classes} of 4 kinds: ${has.length ? has.join(', ') : 'none yet'}${has.length < limits.classes ? `; ${limits.classes - has.length} more of ${lacks.join(', ')}` : ''}`,
      met: has.length >= limits.classes,
    });
  if (limits.pattern)
    found.push({ text: `of the form ${limits.pattern}`, met: fits(value, limits.pattern) });
  return found;
}

/** Forms are written for the server; one that this browser does not read is left to the server. */
function fits(value: string, pattern: string): boolean {
  try {
    return new RegExp(`^(?:${pattern})$`, 'u').test(value);
  } catch {
    return true;
  }
}
