import { describe, expect, it } from 'vitest';
import { read, turned, write } from './rule';

describe('schedules built by choosing', () => {
  it.each([
    ['FREQ=DAILY', 'daily'],
    ['FREQ=WEEKLY;INTERVAL=2;BYDAY=TU', 'weekly'],
    ['FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR', 'weekly'],
    ['FREQ=MONTHLY;BYMONTHDAY=15', 'monthly-day'],
    ['FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1', 'monthly-nth'],
    ['FREQ=MONTHLY;BYDAY=2WE', 'monthly-nth'],
    ['FREQ=YEARLY;BYMONTH=12;BYMONTHDAY=24', 'rule'],
    ['FREQ=DAILY;COUNT=3', 'rule'],
    ['FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=1,3', 'rule'],
    ['FREQ=MONTHLY;BYDAY=5WE', 'rule'],
  ])('%s is read as %s and written as it was', (rule, how) => {
    const s = { start: '2026-11-03T07:00', zone: 'Europe/Zurich', rule, missed: 'skip' as const };
    const built = read(s);
    expect(built.how).toBe(how);
    expect(write(built, s)).toEqual(s);
  });
  it('keeps how often only while the unit stays', () => {
    const weekly = read({ start: '2026-11-03T07:00', rule: 'FREQ=WEEKLY;INTERVAL=2;BYDAY=TU' });
    expect(write(turned(weekly, 'monthly-day'), {}).rule).toBe('FREQ=MONTHLY;BYMONTHDAY=3');
    const monthly = read({ start: '2026-11-03T07:00', rule: 'FREQ=MONTHLY;INTERVAL=3;BYMONTHDAY=5' });
    expect(write(turned(monthly, 'monthly-nth'), {}).rule).toContain('INTERVAL=3');
  });
  it('keeps cron', () => {
    const s = { cron: '0 7 * * 1-5', zone: 'Europe/Zurich' };
    expect(write(read(s), s)).toEqual(s);
  });
});
