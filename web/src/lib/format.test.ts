import { describe, expect, it } from 'vitest';
import { parseProblem } from './api/client';
import { ago, count, middle, size, span } from './format';

describe('words', () => {
  it.each([
    [0, '0 B'],
    [1536, '1.5 KiB'],
    [48 * 2 ** 30, '48 GiB'],
    [2 ** 40, '1 TiB'],
    [123 * 2 ** 20, '123 MiB'],
  ])('%i bytes are %s', (bytes, wanted) => expect(size(bytes)).toBe(wanted));
  it.each([
    [4.2, '4 s'],
    [75, '1 min 15 s'],
    [720, '12 min'],
    [7500, '2 h 5 min'],
    [-3, '0 s'],
  ])('%f seconds are %s', (seconds, wanted) => expect(span(seconds)).toBe(wanted));
  it('shorten in the middle', () => {
    expect(middle('goosander-2-local', 9)).toBe('goos…ocal');
    expect(middle('gannet', 9)).toBe('gannet');
    expect(middle('abcdefghij', 5)).toHaveLength(5);
  });
  it('count and look back', () => {
    expect([count(1, 'host'), count(2, 'host'), count(2, 'entry', 'entries')]).toEqual([
      '1 host',
      '2 hosts',
      '2 entries',
    ]);
    expect([ago(3), ago(45), ago(600)]).toEqual(['just now', '45 s ago', '10 min ago']);
  });
});

describe('problems', () => {
  it('are read, and made up in words when the answer is none', () => {
    expect(parseProblem('{"code":"x","title":"T","detail":"D","hint":"H"}', 409)).toEqual({
      code: 'x',
      title: 'T',
      detail: 'D',
      hint: 'H',
      status: 409,
    });
    expect(parseProblem('<html>', 502).detail).toContain('502');
  });
});
