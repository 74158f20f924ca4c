import { expect, it } from 'vitest';
import { example, withColumn } from './table';

it('adds a column once, empty in every row', () => {
  expect(withColumn('name,bay\nwest,kelda\n', 'station')).toBe('name,bay,station\nwest,kelda,');
  const tabbed = withColumn(example('kelda'), 'station');
  expect(tabbed.split('\n')[0]).toBe('name\ttitle\tbay\tstation');
  expect(withColumn(tabbed, 'station')).toBe(tabbed);
});
