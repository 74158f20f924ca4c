import { describe, expect, it } from 'vitest';
import type { GroundLine, PlanLine, RunLine } from '../../lib/api/types';
import { grouped, isOpen, matching, narrowed, rows } from './overview';

function run(id: string, state: string, started = 1): RunLine {
  const words = { sentence: '', short: state, plans: state, tab: '', line: '' };
  return {
    id,
    plan: 'western',
    state: state as RunLine['state'],
    started_at: started,
    ended_at: null,
    undone_at: null,
    nodes: 3,
    deployed: 1,
    words,
  };
}

function plan(id: string, state = ''): PlanLine {
  return {
    id,
    title: id,
    version: 1,
    changed_at: 1,
    kit: 'k',
    bay: 'b',
    nodes: 3,
    trouble: '',
    blockers: null,
    drift: 0,
    run: state ? run(`r-${id}`, state) : null,
  };
}

const ground: GroundLine = {
  id: 'g1',
  state: 'done',
  started_at: 9,
  hosts: 'gannet',
  what: '3 name records',
};

describe('the overview', () => {
  it('puts each plan into one group, those that need a person apart', () => {
    const states = [
      'trouble',
      'held',
      'unproved',
      'running',
      'proving',
      'undoing',
      'done',
      'undone',
    ];
    const found = grouped([plan('new'), ...states.map((s) => plan(s, s))]);
    expect(found.attention.map((p) => p.id)).toEqual(['trouble', 'held', 'unproved']);
    expect(found.running.map((p) => p.id)).toEqual(['running', 'proving', 'undoing']);
    expect(found.deployed.map((p) => p.id)).toEqual(['done']);
    expect(found.planned.map((p) => p.id)).toEqual(['new', 'undone']);
  });

  it('lists runs that have not ended first, then the newest, of both kinds', () => {
    const found = rows(
      [run('old', 'held', 1), run('new', 'done', 10)],
      [ground],
      new Map([['western', 'Western gauges']]),
    );
    expect(found.map((r) => r.id)).toEqual(['old', 'new', 'g1']);
    expect(found[0]?.what).toBe('Western gauges');
    expect(found.map(isOpen)).toEqual([true, false, false]);
  });

  it('filters by every word typed', () => {
    const found = rows([run('a', 'done')], [ground], new Map());
    expect(matching(found, 'GANNET name').map((r) => r.id)).toEqual(['g1']);
    expect(matching(found, 'nothing of it')).toEqual([]);
    expect(matching(found, '  ')).toHaveLength(2);
  });
});

describe('runs', () => {
  it('are narrowed by state and time, but those that go on are always shown', () => {
    const titles = new Map([['western', 'Western']]);
    const all = rows(
      [run('old', 'done', 100), run('on', 'held', 50), run('new', 'undone', 900)],
      [],
      titles,
    );
    const ids = (found: { id: string }[]) => found.map((one) => one.id);
    expect(ids(narrowed(all, 'all', 500, 1000))).toEqual(['on', 'new']);
    expect(ids(narrowed(all, 'passed', 0, 1000))).toEqual(['old']);
    expect(ids(narrowed(all, 'attention', 0, 1000))).toEqual(['on']);
  });
  it('lead to their own page, or to a report where the plan is gone', () => {
    const hrefs = (titles: Map<string, string>) => rows([run('r1', 'done')], [], titles)[0]?.href;
    expect(hrefs(new Map([['western', 'Western']]))).toBe('/plans/western/run?run=r1');
    expect(hrefs(new Map())).toBe('/api/runs/r1/acceptance.html');
  });
});
