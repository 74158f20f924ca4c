/** What somebody typed and has not sent: kept for this tab until it is sent, over reloads and closed dialogs. */

const PREFIX = 'draft ';

export function readDraft(key: string): string {
  try {
    return sessionStorage.getItem(PREFIX + key) ?? '';
  } catch {
    return '';
  }
}

/** Keeps a text; an empty one is forgotten. */
export function keepDraft(key: string, text: string): void {
  try {
    if (text) sessionStorage.setItem(PREFIX + key, text);
    else sessionStorage.removeItem(PREFIX + key);
  } catch {
    // A browser that stores nothing keeps it as long as the page is open.
  }
}
