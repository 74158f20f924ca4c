/** The sheet's columns: which there are, how wide, and in which order somebody sees them. Pure. */
import type { ColumnView, NodeView, PlanView } from '../../lib/api/types';
import type { SheetPrefs } from '../../lib/prefs.svelte';

export interface SheetColumn {
  id: string;
  label: string;
  width: number;
  right: boolean;
  editable: boolean;
  column?: ColumnView;
  text: (node: NodeView) => string;
}

const FIRST = ['name', 'host', 'address', 'system.drive', 'datastore', 'size'];
/** Columns of VMs, by the last part of their name: nodes on bare machines have none of them. */
const OF_VMS = ['datastore', 'provisioning', 'mac', 'mac_pool'];
const WIDTHS: Record<string, number> = {
  name: 152,
  host: 96,
  address: 116,
  datastore: 128,
  'system.drive': 132,
  port: 146,
  size: 74,
  provisioning: 70,
  network: 112,
  pool: 124,
  prefix: 64,
  gateway: 112,
  dns: 168,
  domain: 168,
  ntp: 104,
  time_zone: 92,
  address6: 172,
  gateway6: 150,
  prefix6: 88,
  mac: 158,
  mac_pool: 112,
  pool6: 104,
  addressing: 92,
  search: 168,
  mtu: 60,
  vlan: 60,
};
const MONO = new Set([
  'address',
  'address6',
  'gateway',
  'gateway6',
  'dns',
  'prefix',
  'prefix6',
  'ntp',
  'mac',
  'port',
  'system.drive',
]);
export const NARROWEST = 48;

export const mono = (id: string): boolean =>
  MONO.has(id) ||
  id.endsWith('.mac') ||
  id.endsWith('.port') ||
  id.endsWith('.drives') ||
  id.endsWith('.address6') ||
  id.endsWith('.address') ||
  id.endsWith('.prefix') ||
  id.startsWith('virtual.');

function widthOf(id: string, label: string): number {
  if (id.endsWith('.port')) return 146;
  if (id.endsWith('.drives')) return 236;
  const known = WIDTHS[id] ?? (id.endsWith('.mac') ? 158 : undefined);
  return known ?? Math.max(110, 9 * label.length);
}

function fixed(
  id: string,
  label: string,
  width: number,
  right: boolean,
  text: (node: NodeView) => string,
): SheetColumn {
  return { id, label, width, right, editable: false, text };
}

/** Whether no node has the column, because all live on bare machines. */
function onlyOfVms(plan: PlanView, id: string): boolean {
  return (
    OF_VMS.includes(id.split('.').at(-1) ?? '') &&
    plan.nodes.length > 0 &&
    plan.nodes.every((node) => node.cells[id]?.origin === 'unused')
  );
}

/** Every column, in the order they have by themselves. */
export function columnsOf(plan: PlanView, size: (bytes: number) => string): SheetColumn[] {
  const given = (column: ColumnView): SheetColumn => ({
    id: column.id,
    label: column.label,
    width: widthOf(column.id, column.label),
    right: false,
    editable: true,
    column,
    text: (node) => node.cells[column.id]?.value ?? '',
  });
  const rolesOf = (node: NodeView) =>
    [node.role_label, ...(node.also ?? []).map((at) => plan.roles[at]?.label ?? '')].join(' + ');
  const longest = Math.max(
    0,
    ...plan.roles.map((role) => role.label.length),
    ...plan.nodes.filter((node) => node.also?.length).map((node) => rolesOf(node).length),
  );
  const role = fixed('#role', 'Role', Math.max(68, 16 + 8 * longest), false, rolesOf);
  const computed = [
    fixed('#vcpu', 'vCPU', 48, true, (n) => String(n.vcpu)),
    fixed('#memory', 'Memory', 72, true, (n) => size(n.memory_bytes)),
    fixed(
      '#disk',
      'Disk thin / full',
      148,
      true,
      (n) => `${size(n.thin_bytes)} / ${size(n.full_bytes)}`,
    ),
  ].filter((one) => one.id !== '#disk' || !onlyOfVms(plan, 'datastore'));
  const shown = plan.columns.filter((one) => !onlyOfVms(plan, one.id));
  const drives = shown.map((one) => one.id).filter((id) => id.endsWith('.drives'));
  const order = FIRST.flatMap((id) => (id === 'system.drive' ? [id, ...drives] : [id]));
  const first = order.flatMap((id) => shown.filter((one) => one.id === id)).map(given);
  const rest = shown.filter((one) => !order.includes(one.id)).map(given);
  return [...first.slice(0, 1), role, ...first.slice(1), ...computed, ...rest];
}

/** The columns as somebody likes them. `asked`: those that were not answered when the page was
 *  opened; they follow the name, and stay there, unless somebody ordered the columns. */
export function arranged(
  columns: SheetColumn[],
  prefs: SheetPrefs,
  asked: string[],
): SheetColumn[] {
  const wanted = prefs.order.length ? prefs.order : ['name', ...asked];
  const rank = (one: SheetColumn): number => {
    if (one.id === 'name') return -1; // it stays in sight at the left
    const at = wanted.indexOf(one.id);
    return at < 0 ? wanted.length : at;
  };
  return columns
    .filter((one) => one.id === 'name' || !prefs.hidden.includes(one.id))
    .map((one) => ({ ...one, width: prefs.widths[one.id] ?? one.width }))
    .sort((a, b) => rank(a) - rank(b));
}

export interface Sort {
  column: string;
  down: boolean;
}

const COLLATOR = new Intl.Collator('en', { numeric: true });

/** Ids of nodes by what stands in a column; addresses and numbers count, those without come last. */
export function sorted(nodes: NodeView[], column: SheetColumn, down: boolean): string[] {
  const amount: Record<string, (node: NodeView) => number> = {
    '#vcpu': (node) => node.vcpu,
    '#memory': (node) => node.memory_bytes,
    '#disk': (node) => node.full_bytes,
  };
  const number = amount[column.id];
  const turn = down ? -1 : 1;
  const compare = (a: NodeView, b: NodeView) => {
    if (number) return turn * (number(a) - number(b));
    const [x, y] = [column.text(a), column.text(b)];
    if (!x || !y) return Number(!x) - Number(!y);
    return turn * COLLATOR.compare(x, y);
  };
  return [...nodes].sort(compare).map((node) => node.id);
}

/** The next way to sort when a column's head is chosen: up, down, as the plan has them. */
export function nextSort(now: Sort | null, column: string): Sort | null {
  if (now?.column !== column) return { column, down: false };
  return now.down ? null : { column, down: true };
}
