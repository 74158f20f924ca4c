/** Numbers that were asked for again and again, as drawings have them. */
import type { Verdict } from '../../lib/api/types';

export type Chart = NonNullable<Verdict['chart']>;

/** End of a scale that starts at 0 and holds all values; limits only where they do not squeeze them. */
export function extent(charts: Chart[]): number {
  const most = Math.max(0, ...charts.flatMap((one) => one.values));
  const limits = charts.flatMap((one) => [one.most, one.worst]).filter((one) => one != null);
  const near = limits.filter((one) => one <= most * 4);
  return Math.max(most, ...near) || 1;
}

/** Whether its median or its worst is above what it may be. */
export function overs(chart: Chart): boolean {
  const worst = Math.max(...chart.values);
  const slow = chart.most != null && chart.median > chart.most;
  return slow || (chart.worst != null && worst > chart.worst);
}

/** A number with 3 digits that count. */
export function round(value: number): string {
  return String(Number(value.toPrecision(3)));
}

/** The verdicts that have a chart, a list for each check. */
export function withCharts(verdicts: Verdict[]): Verdict[][] {
  const found = new Map<string, Verdict[]>();
  for (const one of verdicts) {
    if (one.chart) found.set(one.proof, [...(found.get(one.proof) ?? []), one]);
  }
  return [...found.values()];
}
