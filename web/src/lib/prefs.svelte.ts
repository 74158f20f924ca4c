/** What somebody chose for this browser and no other: kept until it is changed. */

const PREFIX = 'nimble-stone ';

function read(key: string): unknown {
  try {
    return JSON.parse(localStorage.getItem(PREFIX + key) ?? 'null') as unknown;
  } catch {
    return null;
  }
}

function write(key: string, value: unknown): void {
  try {
    localStorage.setItem(PREFIX + key, JSON.stringify(value));
  } catch {
    // A browser that stores nothing keeps it as long as the page is open.
  }
}

/** How somebody likes the sheet of a kit: columns hidden, in an order of their own, widened. */
export interface SheetPrefs {
  hidden: string[];
  order: string[];
  widths: Record<string, number>;
}

export const PLAIN: SheetPrefs = { hidden: [], order: [], widths: {} };

const texts = (given: unknown): string[] =>
  Array.isArray(given) ? given.filter((one): one is string => typeof one === 'string') : [];

/** What was kept, as far as it is of the form it should have. */
export function sheetPrefsOf(given: unknown): SheetPrefs {
  if (typeof given !== 'object' || given === null) return PLAIN;
  const { hidden, order, widths } = given as Partial<Record<keyof SheetPrefs, unknown>>;
  const sizes = typeof widths === 'object' && widths !== null ? Object.entries(widths) : [];
  return {
    hidden: texts(hidden),
    order: texts(order),
    widths: Object.fromEntries(
      sizes.filter((one): one is [string, number] => typeof one[1] === 'number' && one[1] >= 40),
    ),
  };
}

class Prefs {
  #letters = $state(read('letters') !== false);
  #sheets = $state.raw<Record<string, SheetPrefs>>({});

  /** Whether single letters work as shortcuts. */
  get letters() {
    return this.#letters;
  }
  set letters(on: boolean) {
    this.#letters = on;
    write('letters', on);
  }
  sheet(kit: string): SheetPrefs {
    return this.#sheets[kit] ?? sheetPrefsOf(read(`sheet ${kit}`));
  }
  keepSheet(kit: string, change: Partial<SheetPrefs>): void {
    const next = { ...this.sheet(kit), ...change };
    this.#sheets = { ...this.#sheets, [kit]: next };
    write(`sheet ${kit}`, next);
  }
}

export const prefs = new Prefs();

/** Whether a key pressed there is somebody's typing, or belongs to a dialog. */
export function isTyping(target: EventTarget | null): boolean {
  return target instanceof Element && target.closest('input, textarea, select, dialog') !== null;
}
