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
  it.each([
    ['0 7 * * 1-5', 'weekly', 'MO,TU,WE,TH,FR'],
    ['30 16 * * mon,thu', 'weekly', 'MO,TH'],
    ['0 8 * * 0', 'weekly', 'SU'],
    ['0 8 * * 5-7', 'weekly', 'FR,SA,SU'],
    ['5 6 * * *', 'daily', undefined],
    ['0 9 15 * *', 'monthly-day', undefined],
    ['*/5 * * * *', 'cron', undefined],
    ['0 9 15 * 1', 'cron', undefined],
    ['0 9 * 12 *', 'cron', undefined],
    ['0 9 * * 5-1', 'cron', undefined],
    ['0 25 * * *', 'cron', undefined],
  ])('opens the cron schedule %s as %s, and keeps it', (cron, how, days) => {
    const s = { cron, zone: 'Europe/Zurich' };
    const built = read(s);
    expect(built.how).toBe(how);
    if (days) expect(built.days.join()).toBe(days);
    expect(write(built, s)).toEqual(s);
    expect(write(built, { ...s, missed: 'skip' })).toEqual({ ...s, missed: 'skip' });
  });
  it('makes a rule of cron once something is chosen', () => {
    const s = { cron: '30 7 * * 1-5' };
    const rule = write({ ...read(s), interval: 2 }, s);
    expect(rule.cron).toBeUndefined();
    expect(rule.rule).toBe('FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,TU,WE,TH,FR');
    expect(rule.start).toMatch(/T07:30$/);
  });
});
