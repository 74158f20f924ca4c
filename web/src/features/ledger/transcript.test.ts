import { describe, expect, it } from 'vitest';
import { brief, firstLines, matches } from './transcript';

describe('transcript', () => {
  const entry = {
    id: 1,
    step: 'boot/lead-1',
    at: 1,
    last_at: 1,
    times: 1,
    target: 'gannet',
    command: 'LC_ALL=C timeout -k 2 60 virsh -q -c qemu:///system domstate x\nsecond',
    answer: 'running',
    status: 0,
    seconds: 0.1,
  };
  it('says a command in one line', () => {
    expect(brief(entry.command)).toBe('virsh domstate x');
  });
  it('tells how much of an answer is left out', () => {
    expect(firstLines('a\nb\nc\nd\ne\n')).toBe('a\nb\nc\n… 2 more lines');
    expect(firstLines('a\nb')).toBe('a\nb');
  });
  it('finds by command, answer and target in any case', () => {
    for (const typed of ['DOMSTATE', 'Running', 'gann', ''])
      expect(matches(entry, typed)).toBe(true);
    expect(matches(entry, 'absent')).toBe(false);
  });
});
