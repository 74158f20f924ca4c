/** The browser's tab: its title, and an icon that tells how things stand. */

export type TabMark = 'plain' | 'working' | 'trouble' | 'done';

const STONE = 'M6 1 17 4l2 9-8 6-9-4L1 6z';
/** Shape tells as much as colour: a growing level, a slash, a tick. */
const MARKS: Record<TabMark, (share: number) => string> = {
  plain: () => '',
  working: (share) => `<rect x="0" y="${20 - 20 * share}" width="20" height="20" fill="#72c9ae"/>`,
  trouble: () => '<path d="M13 3 7 17" stroke="#fff" stroke-width="4"/>',
  done: () => '<path d="m5 10 4 4 7-8" stroke="#fff" stroke-width="3" fill="none"/>',
};
const COLOURS: Record<TabMark, string> = {
  plain: '#1c6a57',
  working: '#4d473d',
  trouble: '#a5321f',
  done: '#1c6a57',
};

/** The icon as SVG. `share`: of the work that is done, 0 to 1. */
export function icon(mark: TabMark, share = 0): string {
  const inside = MARKS[mark](Math.max(0.05, Math.min(1, share)));
  return (
    '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 20 20">' +
    `<clipPath id="s"><path d="${STONE}"/></clipPath>` +
    `<g clip-path="url(#s)"><path d="${STONE}" fill="${COLOURS[mark]}"/>${inside}</g></svg>`
  );
}

let shown = '';

export function setTab(title: string, mark: TabMark = 'plain', share = 0): void {
  document.title = title;
  const drawn = icon(mark, Math.round(share * 10) / 10);
  if (drawn === shown) return;
  shown = drawn;
  const link = document.querySelector<HTMLLinkElement>('link[rel="icon"]');
  if (link) link.href = `data:image/svg+xml,${encodeURIComponent(drawn)}`;
}
