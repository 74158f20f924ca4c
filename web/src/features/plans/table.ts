/** Tables as they are typed: lines, with tabs or commas between cells. Pure. */

/** The table with one more column at its right; unchanged where it has it already. */
export function withColumn(text: string, column: string): string {
  const lines = text.replace(/\n+$/, '').split('\n');
  const head = lines[0] ?? '';
  const mark = head.includes('\t') ? '\t' : ',';
  if (head.split(mark).some((one) => one.trim() === column)) return text;
  return lines.map((line, i) => `${line}${mark}${i ? '' : column}`).join('\n');
}

/** A table to begin with: four clusters of a bay. */
export function example(bay: string): string {
  const rows = ['north', 'east', 'south', 'west'].map(
    (name) => `${name}\t${name[0]?.toUpperCase()}${name.slice(1)}ern\t${bay}`,
  );
  return ['name\ttitle\tbay', ...rows].join('\n');
}
