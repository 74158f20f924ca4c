import { describe, expect, it } from 'vitest';
import { partsOf } from './limits';

const limits = { least: 12, most: 64, classes: 3, pattern: '' };

describe('a rule while somebody types', () => {
  it('says what is met and what lacks, part by part', () => {
    expect(partsOf('Tide', limits)).toEqual([
      { text: 'at least 12 characters: 4, 8 more', met: false },
      { text: 'at most 64 characters: 4', met: true },
      { text: '3 of 4 kinds: lower case, upper case; 1 more of digits, signs', met: false },
    ]);
    expect(partsOf('Tide-tables 1893', limits).every((part) => part.met)).toBe(true);
    expect(partsOf('', limits)[2]?.text).toBe(
      '3 of 4 kinds: none yet; 3 more of lower case, upper case, digits, signs',
    );
  });
  it('counts characters as people do and letters of all scripts', () => {
    expect(partsOf('Ölstände 🌊🌊12', limits)[0]).toEqual({
      text: 'at least 12 characters: 13',
      met: true,
    });
    expect(partsOf('éÉ', limits)[2]?.text).toContain('lower case, upper case; 1 more');
  });
  it('holds the whole text against a form, and leaves forms it cannot read to the server', () => {
    const key = { least: 0, most: 4096, classes: 0, pattern: '[A-Z0-9]{5}(-[A-Z0-9]{5}){3}' };
    expect(partsOf('HOLM1-TIDES-7SHIP-0LOGS', key)).toEqual([
      { text: `of the form ${key.pattern}`, met: true },
    ]);
    expect(partsOf('HOLM1-TIDES-7SHIP-0LOGSX', key)[0]?.met).toBe(false);
    expect(partsOf('x', { ...key, pattern: '(?P<name>x)' })[0]?.met).toBe(true);
    expect(partsOf('x', null)).toEqual([]);
  });
});
