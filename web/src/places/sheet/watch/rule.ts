import type { Schedule } from '../model';

/** A schedule as it is built by choosing. What cannot be chosen is kept as its rule. */
export interface Built {
  how: 'daily' | 'weekly' | 'monthly-day' | 'monthly-nth' | 'cron' | 'rule';
  /** Every so many days, weeks or months. */
  interval: number;
  days: string[];
  monthDay: number;
  nth: number;
  /** workday, or a day of the week. */
  nthDay: string;
  time: string;
  date: string;
  cron: string;
  rule: string;
}

export const dayCodes = ['MO', 'TU', 'WE', 'TH', 'FR', 'SA', 'SU'];
export const dayWords = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun'];
/** Which of a month's days can be chosen: the first to the fourth, or the last. */
export const nths = [1, 2, 3, 4, -1];
const workdays = dayCodes.slice(0, 5);

const partsOf = (rule: string) =>
  new Map(
    rule
      .toUpperCase()
      .replace(/^RRULE:/, '')
      .split(';')
      .map((p) => p.split('=') as [string, string]),
  );

/** Reads a schedule back into what can be chosen. */
export function read(s: Schedule): Built {
  const [date = '', time = '07:00'] = (s.start ?? '').split('T');
  const built: Built = {
    how: 'rule',
    interval: 1,
    days: workdays,
    monthDay: Number(date.slice(8, 10)) || 1,
    nth: -1,
    nthDay: 'workday',
    time: time.slice(0, 5),
    date: date || new Date().toISOString().slice(0, 10),
    cron: s.cron ?? '0 7 * * 1-5',
    rule: s.rule ?? 'FREQ=DAILY',
  };
  if (s.cron !== undefined) return { ...built, how: 'cron', ...chosenOf(s.cron) };
  const parts = partsOf(s.rule ?? '');
  const only = (...names: string[]) =>
    [...parts.keys()].every((k) => ['FREQ', 'INTERVAL', ...names].includes(k));
  built.interval = Number(parts.get('INTERVAL') ?? 1) || 1;
  const days = (parts.get('BYDAY') ?? '').split(',').filter(Boolean);
  const plain = days.every((d) => dayCodes.includes(d));
  switch (parts.get('FREQ')) {
    case 'DAILY':
      if (only()) return { ...built, how: 'daily' };
      break;
    case 'WEEKLY':
      if (only('BYDAY') && plain && days.length) return { ...built, how: 'weekly', days };
      break;
    case 'MONTHLY': {
      const day = Number(parts.get('BYMONTHDAY'));
      if (only('BYMONTHDAY') && Number.isInteger(day) && day !== 0)
        return { ...built, how: 'monthly-day', monthDay: day };
      const place = Number(parts.get('BYSETPOS'));
      if (only('BYDAY', 'BYSETPOS') && nths.includes(place) && days.join() === workdays.join())
        return { ...built, how: 'monthly-nth', nth: place, nthDay: 'workday' };
      const one = /^(-?\d)([A-Z]{2})$/.exec(parts.get('BYDAY') ?? '');
      if (only('BYDAY') && one && nths.includes(Number(one[1])))
        return { ...built, how: 'monthly-nth', nth: Number(one[1]), nthDay: one[2]! };
    }
  }
  return built;
}

/** What can be chosen of a cron schedule: one time of the day, on days of the week or on one of the month. */
function chosenOf(cron: string): Partial<Built> {
  const [minute = '', hour = '', day = '', month = '', weekday = '', more] = cron.trim().split(/\s+/);
  const within = (text: string, most: number) => /^\d{1,2}$/.test(text) && Number(text) <= most;
  if (!within(minute, 59) || !within(hour, 23) || month !== '*' || more !== undefined) return {};
  const time = `${hour.padStart(2, '0')}:${minute.padStart(2, '0')}`;
  if (day === '*' && weekday === '*') return { how: 'daily', time };
  if (weekday === '*' && within(day, 31) && Number(day) > 0)
    return { how: 'monthly-day', monthDay: Number(day), time };
  const days = day === '*' ? weekdaysOf(weekday) : undefined;
  return days?.length ? { how: 'weekly', days, time } : {};
}

/** Days of the week as cron lists them: numbers, of which 0 and 7 are Sunday, names and ranges. */
function weekdaysOf(text: string): string[] | undefined {
  const number = (d: string) => {
    const named = dayWords.findIndex((w) => w.toLowerCase() === d.toLowerCase());
    return named >= 0 ? named + 1 : /^[0-7]$/.test(d) ? Number(d) : undefined;
  };
  const out = new Set<number>();
  for (const part of text.split(',')) {
    const [from, to = from] = part.split('-').map(number);
    if (from === undefined || to === undefined || from > to || part.split('-').length > 2) return undefined;
    for (let d = from; d <= to; d++) out.add(d % 7);
  }
  return dayCodes.filter((_, i) => out.has((i + 1) % 7));
}

const units: Partial<Record<Built['how'], string>> = {
  daily: 'day',
  weekly: 'week',
  'monthly-day': 'month',
  'monthly-nth': 'month',
};

/** Turns to another way of recurring. "Every two" of one unit says nothing of another. */
export const turned = (b: Built, how: Built['how']): Built => ({
  ...b,
  how,
  interval: units[b.how] === units[how] ? b.interval : 1,
});

/** Writes what was chosen as a schedule. */
export function write(b: Built, had: Schedule): Schedule {
  const rest = {
    ...(had.zone && { zone: had.zone }),
    ...(had.except && { except: had.except }),
    ...(had.missed && { missed: had.missed }),
  };
  // What stands as cron stays so until something about it is chosen.
  const untouched = had.cron !== undefined && JSON.stringify(read(had)) === JSON.stringify(b);
  if (b.how === 'cron' || untouched) return { cron: b.cron, ...rest };
  const every = b.interval > 1 ? `;INTERVAL=${b.interval}` : '';
  const rule = () => {
    switch (b.how) {
      case 'daily':
        return `FREQ=DAILY${every}`;
      case 'weekly':
        return `FREQ=WEEKLY${every};BYDAY=${dayCodes.filter((d) => b.days.includes(d)).join(',')}`;
      case 'monthly-day':
        return `FREQ=MONTHLY${every};BYMONTHDAY=${b.monthDay}`;
      case 'monthly-nth':
        return b.nthDay === 'workday'
          ? `FREQ=MONTHLY${every};BYDAY=${workdays.join(',')};BYSETPOS=${b.nth}`
          : `FREQ=MONTHLY${every};BYDAY=${b.nth}${b.nthDay}`;
    }
    return b.rule;
  };
  return { start: `${b.date}T${b.time}`, ...rest, rule: rule() };
}
