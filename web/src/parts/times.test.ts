import { describe, expect, it } from 'vitest';
import { counted } from './counted';
import { agoOf, clockOf, dayOf, fullOf, showZone } from './times';

const now = Date.UTC(2026, 10, 26, 12, 0, 0);
const back = (seconds: number) => new Date(now - seconds * 1000).toISOString();

describe('how long ago', () => {
  it.each([
    [0, 'just now'],
    [4, 'just now'],
    [-4, 'just now'],
    [5, '5 s ago'],
    [59, '59 s ago'],
    [60, '1 min ago'],
    [3599, '59 min ago'],
    [3600, '1 h ago'],
    [86_399, '23 h ago'],
    [86_400, '1 d ago'],
    [10 * 86_400, '10 d ago'],
    [-90, 'in 1 min'],
    [-7200, 'in 2 h'],
  ])('%d seconds are %s', (seconds, words) => expect(agoOf(back(seconds), now)).toBe(words));

  it('nothing was never', () => {
    expect(agoOf(null, now)).toBe('never');
    expect(agoOf(undefined, now)).toBe('never');
  });
});

it('shows times in the workspace’s zone, over the change of the clocks', () => {
  showZone('Europe/Zurich');
  expect(clockOf('2026-10-25T00:30:00Z')).toBe('02:30:00');
  expect(clockOf('2026-10-25T01:30:00Z')).toBe('02:30:00');
  expect(dayOf('2026-12-31T23:30:00Z')).toBe('1 Jan');
  expect(fullOf('2026-07-01T10:00:00Z')).toMatch(/Wed,? 1 Jul 2026.*12:00:00.*(CEST|GMT\+2)/);
  showZone('Asia/Kathmandu');
  expect(clockOf('2026-07-01T10:00:00Z')).toBe('15:45:00');
});

it('counts in words', () => {
  expect(counted(0, 'record')).toBe('0 records');
  expect(counted(1, 'record')).toBe('1 record');
  expect(counted(1200, 'record')).toBe('1,200 records');
  expect(counted(2, 'entry', 'entries')).toBe('2 entries');
});
