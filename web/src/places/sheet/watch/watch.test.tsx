import { beforeEach, expect, it, vi } from 'vitest';
import { chosen, drawn, labelled, offered, pressed, saying, typed } from '../../../testing';
import type { Sheet } from '../model';
import { editor, practice } from '../testing';
import { WatchBand } from './WatchBand';

beforeEach(practice);
const watching = (watch: Sheet['watch'], more: Partial<Sheet> = {}, readOnly = false) =>
  editor({ watch, ...more }, (p) => <WatchBand {...p} proof={undefined} />, { readOnly });

it('turns to each form as it is usually meant, and keeps the source', async () => {
  const e = watching({ source: 'tours/collections' });
  const page = await drawn(e.page);
  const turn = (words: string) => chosen('What starts it', words);
  await turn('a moment comes due');
  expect(e.now.sheet.watch).toEqual({ source: 'tours/collections', due: { field: 'due', offset: '-2h' } });
  await turn('a state lasts too long');
  expect(e.now.sheet.watch).toEqual({
    source: 'tours/collections',
    lasts: { that: { field: 'status', is: '' }, for: '45m' },
  });
  await turn('nothing comes');
  expect(e.now.sheet.watch).toEqual({ source: 'tours/collections', silent: { for: '6h' } });
  await turn('a person starts it');
  expect(e.now.sheet.watch).toEqual({ start: { source: 'tours/collections', ask: [] } });
  await turn('a call starts it');
  expect(e.now.sheet.watch.called!.takes).toHaveLength(1);
  await turn('the calendar says so');
  expect(e.now.sheet.watch.schedule).toMatchObject({ rule: 'FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR' });
  await page.gone();
});

it('retitles a fresh message where there is no record any more, and leaves what was written', async () => {
  const fresh = watching(
    { source: 'tours/collections' },
    {
      messages: {
        alert: { title: '${record.id}', body: 'Something has changed.' },
        own: { title: '${record.id}', body: 'Mine.' },
      },
    },
  );
  const page = await drawn(fresh.page);
  await chosen('What starts it', 'the calendar says so');
  expect(fresh.now.sheet.messages!.alert!.title).toBe('Late');
  expect(fresh.now.sheet.messages!.own!.title).toBe('${record.id}');
  await page.gone();
});

it('says which changes of a record it starts on, in their order', async () => {
  const e = watching({ source: 'tours/collections' });
  const page = await drawn(e.page);
  const boxes = page.at.querySelectorAll('input[type="checkbox"]');
  await pressed(boxes[2]!);
  expect(e.now.sheet.watch.on).toEqual(['created', 'updated', 'removed']);
  await pressed(boxes[0]!);
  expect(e.now.sheet.watch.on).toEqual(['updated', 'removed']);
  await pressed(saying('+ when …'));
  expect(e.now.sheet.watch.when).toEqual({ field: 'status', changed: true });
  await pressed(labelled('Remove the condition of Watch'));
  expect(e.now.sheet.watch.when).toBeUndefined();
  await page.gone();
});

it('sets a moment before, at or after a field, keeping the span', async () => {
  const e = watching({ source: 'tours/collections', due: { field: 'due', offset: '-2h' } });
  const page = await drawn(e.page);
  await typed(labelled('How long'), '30m');
  expect(e.now.sheet.watch.due!.offset).toBe('-30m');
  await chosen('Before, at or after', 'after');
  expect(e.now.sheet.watch.due!.offset).toBe('30m');
  await chosen('Before, at or after', 'at');
  expect(e.now.sheet.watch.due!.offset).toBeUndefined();
  expect(labelled('How long')).toBeNull();
  await chosen('Before, at or after', 'before');
  expect(e.now.sheet.watch.due!.offset).toBe('-2h');
  await page.gone();
});

it('offers only moments as what falls due', async () => {
  const e = watching({ source: 'tours/collections', due: { field: 'due' } });
  const page = await drawn(e.page);
  await chosen('The field that falls due', 'Due');
  expect(offered()).not.toContain('Litres');
  await page.gone();
});

it('waits for a state, and keeps it where its last condition is removed', async () => {
  const e = watching({
    source: 'tours/collections',
    lasts: { that: { field: 'status', is: 'late' }, for: '45m' },
  });
  const page = await drawn(e.page);
  await typed(labelled('For how long'), '2h');
  expect(e.now.sheet.watch.lasts!.for).toBe('2h');
  await pressed(saying('+ condition'));
  expect(e.now.sheet.watch.lasts!.that).toMatchObject({
    all: [
      { field: 'status', is: 'late' },
      { field: 'status', is: '' },
    ],
  });
  await pressed(labelled('Remove the group of what lasts'));
  expect(e.now.sheet.watch.lasts).toEqual({ that: {}, for: '2h' });
  await page.gone();
});

it('counts silence in opening hours, which come and go', async () => {
  const e = watching({ source: 'tours/collections', silent: { for: '6h' } });
  const page = await drawn(e.page);
  await pressed(saying('+ opening hours'));
  expect(e.now.sheet.watch.silent!.open).toEqual([
    { days: ['mon', 'tue', 'wed', 'thu', 'fri'], from: '06:00', to: '18:00' },
  ]);
  await typed(labelled('From'), '05:30');
  await typed(labelled('To'), '20:00');
  expect(e.now.sheet.watch.silent!.open![0]).toMatchObject({ from: '05:30', to: '20:00' });
  await pressed(labelled('Remove these hours'));
  expect(e.now.sheet.watch.silent).toEqual({ for: '6h', open: undefined });
  await page.gone();
});

it('asks before it starts, and takes what a call gives', async () => {
  const e = watching({ start: { source: 'tours/collections', ask: [] } });
  const page = await drawn(e.page);
  await typed(labelled('What is asked before it starts'), 'Tell the board?');
  expect(e.now.sheet.watch.start!.confirm).toBe('Tell the board?');
  await typed(labelled('What is asked before it starts'), '');
  expect(e.now.sheet.watch.start!.confirm).toBeUndefined();
  await pressed(saying('+ question'));
  await typed(labelled('Question 1'), 'Why now?');
  expect(e.now.sheet.watch.start!.ask).toEqual([{ name: 'why_now', label: 'Why now?', type: 'text' }]);
  await page.gone();
});

it('builds a calendar by choosing, and reads it back with its moments', async () => {
  const e = watching({ schedule: { start: '2026-12-01T07:00', rule: 'FREQ=WEEKLY;BYDAY=TU' } });
  const page = await drawn(e.page);
  const rule = () => e.now.sheet.watch.schedule!.rule;
  await vi.waitFor(() =>
    expect(page.at.querySelector('.readback')!.textContent).toContain('every Tuesday at 07:00'),
  );
  expect(page.at.querySelectorAll('.readback li')).toHaveLength(1);
  await chosen('How it recurs', 'on a day of the month');
  expect(rule()).toBe('FREQ=MONTHLY;BYMONTHDAY=1');
  await chosen('How it recurs', 'on the first, second … last');
  expect(rule()).toContain('BYSETPOS=-1');
  await chosen('Which one', 'second');
  await chosen('Which day', 'Wed');
  expect(rule()).toBe('FREQ=MONTHLY;BYDAY=2WE');
  await chosen('How it recurs', 'every so many days');
  expect(rule()).toBe('FREQ=DAILY');
  await typed(labelled('Time of day'), '18:30');
  expect(e.now.sheet.watch.schedule!.start).toMatch(/T18:30$/);
  await chosen('What was missed while nothing ran', 'missed ones are skipped');
  expect(e.now.sheet.watch.schedule!.missed).toBe('skip');
  await chosen('How it recurs', 'as cron says');
  await typed(labelled('Cron: minute, hour, day, month, weekday'), '0 7 * * 1');
  expect(e.now.sheet.watch.schedule!.cron).toBe('0 7 * * 1');
  expect(labelled('Time of day')).toBeNull();
  await page.gone();
});

it('shows a viewer each form, and lets nothing be changed', async () => {
  for (const watch of [
    { source: 'tours/collections' },
    { source: 'tours/collections', due: { field: 'due' } },
    { source: 'tours/collections', silent: { for: '6h' } },
    { schedule: { cron: '0 7 * * *' } },
    { start: { ask: [{ name: 'why', label: 'Why' }] } },
  ] as Sheet['watch'][]) {
    const page = await drawn(watching(watch, {}, true).page);
    const acts = [...page.at.querySelectorAll('button')].map((b) => b.textContent.trim());
    expect(acts.filter((a) => a.startsWith('+'))).toEqual([]);
    for (const i of page.at.querySelectorAll('input'))
      expect(i.readOnly || i.disabled, i.outerHTML).toBe(true);
    await page.gone();
  }
});

it('takes a command from the messages of a room, and from nothing else', async () => {
  const records = watching({ source: 'tours/collections' });
  const none = await drawn(records.page);
  expect(saying('+ command')).toBeNull();
  await none.gone();
  const fields = ['text', 'author', 'room'].map((name) => ({ name, label: name, type: 'text' }));
  const e = editor({ watch: { source: 'talk/tours' } }, (p) => <WatchBand {...p} proof={undefined} />, {
    fields: fields as never,
  });
  const page = await drawn(e.page);
  await pressed(saying('+ command'));
  expect(e.now.sheet.watch).toEqual({ source: 'talk/tours', command: 'done' });
  await typed(labelled('The command'), 'collected');
  expect(e.now.sheet.watch.command).toBe('collected');
  await pressed(labelled('Take the command away'));
  expect(e.now.sheet.watch.command).toBeUndefined();
  await page.gone();
});
