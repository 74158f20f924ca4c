import { describe, expect, it } from 'vitest';
import { choiceLabel } from './choices';

describe('choiceLabel', () => {
  const base = {
    title: 'Gauge Collector 4.2.0',
    channel: 'stable',
    signature: 'verified',
    why_not: '',
  };
  it('tells channel and trust', () => {
    expect(choiceLabel(base)).toBe('Gauge Collector 4.2.0 · stable, trusted publisher');
    expect(choiceLabel({ ...base, channel: '', signature: 'absent' })).toBe(
      'Gauge Collector 4.2.0 · not signed',
    );
  });
  it('tells why it is not chosen by itself', () => {
    expect(choiceLabel({ ...base, why_not: 'its channel is candidate' })).toBe(
      'Gauge Collector 4.2.0 · its channel is candidate',
    );
  });
});
