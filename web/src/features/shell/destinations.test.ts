import { describe, expect, it } from 'vitest';
import type { HitView } from '../../lib/api/types';
import { matching, ofHits, PLACES } from './destinations';

const hit = (kind: HitView['kind'], ident: string, part: string, name: string): HitView => ({
  kind,
  ident,
  part,
  name,
  detail: '',
});

describe('destinations', () => {
  it('lead to the cell of a node or an address', () => {
    const hrefs = ofHits([
      hit('node', 'west', 'archive-1', 'west-arc-1'),
      hit('address', 'west', 'archive-1/address', '10.44.20.12'),
      hit('address', 'west', '/virtual.portal', '10.44.20.13'),
      hit('run', 'r1', 'west', 'r1'),
    ]).map((one) => one.href);
    expect(hrefs).toEqual([
      '/plans/west?node=archive-1&column=name',
      '/plans/west?node=archive-1&column=address',
      '/plans/west?node=*&column=virtual.portal',
      '/plans/west/run?run=r1',
    ]);
  });
  it('hold every word of the query, those that begin with it first', () => {
    expect(matching(PLACES, 'estate')[0]?.text).toBe('Estate');
    expect(matching(PLACES, 'host estate').map((one) => one.text)).toEqual([
      'Estate: host preparation',
    ]);
    expect(matching(PLACES, 'nothing of the kind')).toEqual([]);
  });
});
