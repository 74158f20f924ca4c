/** Sizes in binary units, times in words; the same wording as the server's. */
const UNITS = ['B', 'KiB', 'MiB', 'GiB', 'TiB', 'PiB'];

export function size(bytes: number): string {
  let value = bytes,
    unit = 0;
  while (Math.abs(value) >= 1024 && unit < UNITS.length - 1) {
    value /= 1024;
    unit++;
  }
  const shown = Math.abs(value) < 100 ? value.toFixed(1).replace(/\.0$/, '') : value.toFixed(0);
  return `${shown} ${UNITS[unit]}`;
}

export const gib = (bytes: number): string =>
  (bytes / 2 ** 30).toFixed(bytes % 2 ** 30 && bytes < 2 ** 33 ? 1 : 0);

export function span(seconds: number): string {
  const whole = Math.max(0, Math.round(seconds));
  if (whole < 60) return `${whole} s`;
  if (whole < 3600) {
    const m = Math.floor(whole / 60),
      s = whole % 60;
    return s && m < 10 ? `${m} min ${s} s` : `${m} min`;
  }
  const h = Math.floor(whole / 3600),
    m = Math.floor((whole % 3600) / 60);
  return m ? `${h} h ${m} min` : `${h} h`;
}

export const clock = (at: number): string =>
  new Date(at * 1000).toLocaleTimeString([], {
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    hour12: false,
  });
export const moment = (at: number): string =>
  new Date(at * 1000).toLocaleString([], {
    dateStyle: 'medium',
    timeStyle: 'short',
    hour12: false,
  } as Intl.DateTimeFormatOptions);
/** The time zone of this browser, as its clocks show it: “UTC”, “GMT+1”. */
export const zone = (): string =>
  new Intl.DateTimeFormat('en', { timeZoneName: 'short' })
    .formatToParts(new Date())
    .find((part) => part.type === 'timeZoneName')?.value ?? '';
export const utc = (at: number): string =>
  `${new Date(at * 1000).toISOString().slice(0, 19).replace('T', ' ')} UTC`;

export function ago(seconds: number): string {
  if (seconds < 20) return 'just now';
  return `${span(seconds < 90 ? seconds : Math.round(seconds / 60) * 60)} ago`;
}

/** Shortens in the middle: both ends of a name tell most. */
export function middle(text: string, most: number): string {
  if (text.length <= most) return text;
  const head = Math.ceil((most - 1) / 2);
  return `${text.slice(0, head)}…${text.slice(text.length - (most - 1 - head))}`;
}

export const count = (n: number, noun: string, plural = `${noun}s`): string =>
  `${n} ${n === 1 ? noun : plural}`;

/** A label in the middle of a sentence: its first letter small, unless it begins a word of capitals. */
export const inside = (label: string): string =>
  /^\p{Lu}{2}/u.test(label) ? label : label.charAt(0).toLowerCase() + label.slice(1);

/** Names on one line: the first ones, and how many more there are. */
export const listed = (names: string[], most = 8) =>
  names.slice(0, most).join(' ') + (names.length > most ? ` and ${names.length - most} more` : '');
