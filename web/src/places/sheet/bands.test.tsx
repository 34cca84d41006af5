import { beforeEach, expect, it, vi } from 'vitest';
import { chosen, drawn, labelled, offered, pressed, saying, typed } from '../../testing';
import { AddCondition, Condition } from './Condition';
import { FollowBand } from './FollowBand';
import { GatherBand } from './GatherBand';
import { KeepBand } from './KeepBand';
import { PaceBand } from './PaceBand';
import { RouteBandView } from './RouteBandView';
import { TellBand } from './TellBand';
import { editor, practice } from './testing';
import type { Cond, Sheet } from './model';

beforeEach(practice);
const keep = (cond: Cond, more?: Parameters<typeof editor>[2]) =>
  editor(
    { keep: cond },
    ({ sheet, change }) =>
      sheet.keep ? (
        <Condition
          cond={sheet.keep}
          path="keep"
          line={{ path: 'keep', text: '', result: 'true', seen: 'late', was: 'planned' }}
          change={(next) => change({ keep: next })}
        />
      ) : (
        <AddCondition add={(test) => change({ keep: test })} />
      ),
    more,
  );

it('offers the operators that fit a field, and keeps a value that still fits', async () => {
  const e = keep({ field: 'status', is: 'late' });
  const page = await drawn(e.page);
  await chosen('Operator of Keep', 'is one of');
  expect(offered()).not.toContain('is between');
  expect(e.now.sheet.keep).toEqual({ field: 'status', one_of: ['late'] });
  await chosen('Field of Keep', 'Litres');
  expect(e.now.sheet.keep).toEqual({ field: 'litres', one_of: ['late'] });
  await chosen('Operator of Keep', 'is between');
  expect(e.now.sheet.keep).toEqual({ field: 'litres', between: [0, 0] });
  await typed(labelled('Value of Keep, highest'), '2000');
  expect(e.now.sheet.keep).toEqual({ field: 'litres', between: [0, 2000] });
  await chosen('Field of Keep', 'Status');
  expect(e.now.sheet.keep).toEqual({ field: 'status', is: '' });
  await chosen('Operator of Keep', 'is empty');
  expect(e.now.sheet.keep).toEqual({ field: 'status', empty: true });
  await page.gone();
});

it('says yes and no of a field that is either, however the sheet writes it', async () => {
  const e = keep({ field: 'cooled', is: true });
  const page = await drawn(e.page);
  const value = () => labelled('Value of Keep') as HTMLInputElement;
  expect(value().value).toBe('yes');
  await typed(value(), 'no');
  expect(e.now.sheet.keep).toEqual({ field: 'cooled', is: false });
  expect(value().value).toBe('no');
  await page.gone();
});

it('shows what the chosen arrival makes of a condition, and how many of the trail it lets through', async () => {
  const e = keep({ field: 'status', is: 'late' });
  const page = await drawn(e.page);
  expect(page.at.textContent).toContain('✓ yes');
  expect(page.at.querySelector('s')!.textContent).toBe('planned');
  expect(page.at.textContent).toContain('3 of 10');
  await page.gone();
});

it('joins conditions, changes how they are joined, and ends where the last is removed', async () => {
  const e = keep({ field: 'status', is: 'late' });
  const page = await drawn(e.page);
  await pressed(labelled('Remove the condition of Keep'));
  expect(e.now.sheet.keep).toBeUndefined();
  await pressed(saying('+ condition'));
  expect(e.now.sheet.keep).toEqual({ field: 'status', is: '' });
  await page.gone();
  const group = keep({ all: [{ field: 'status', is: 'late' }, { formula: 'record.litres > 5' }] });
  const again = await drawn(group.page);
  await chosen('How the conditions of Keep are joined', 'at least one of');
  expect(Object.keys(group.now.sheet.keep!)).toEqual(['any']);
  await pressed(saying('+ condition'));
  expect((group.now.sheet.keep!.any as Cond[]).length).toBe(3);
  await pressed(labelled('Remove condition 1 of Keep'));
  expect(group.now.sheet.keep).toEqual({
    any: [{ formula: 'record.litres > 5' }, { field: 'status', is: '' }],
  });
  await pressed(labelled('Remove the group of Keep'));
  expect(group.now.sheet.keep).toBeUndefined();
  await again.gone();
});

it('says what is wrong where it stands, with a button that mends it', async () => {
  const e = keep(
    { field: 'statsu', is: 'late' },
    {
      problems: [
        {
          at: { line: 1, column: 1 },
          path: 'keep',
          message: 'the records have no field statsu',
          suggestion: 'status',
          mend: { words: 'status', path: 'keep.field', put: 'status' },
        },
      ],
    },
  );
  const page = await drawn(e.page);
  expect(page.at.querySelector('.problems')!.textContent).toContain(
    '✕ the records have no field statsu; did you mean',
  );
  await pressed(labelled('Mend: status'));
  expect(e.now.sheet.keep).toEqual({ field: 'status', is: 'late' });
  await page.gone();
});

it('lets a viewer read everything and change nothing', async () => {
  const e = editor(
    {
      keep: { all: [{ field: 'status', is: 'late' }] },
      pace: { repeat: { key: '${record.id}', within: '2h' } },
      follow: [{ change: { source: 'tours/collections', key: '${record.id}', set: { note: 'x' } } }],
      route: {
        rows: [
          {
            name: 'R',
            when: { field: 'litres', at_least: 5 },
            tell: [{ to: 'square/#tours', message: 'alert' }],
          },
        ],
      },
    },
    (p) => (
      <>
        <KeepBand {...p} proof={undefined} />
        <RouteBandView {...p} proof={undefined} trail={[]} table={undefined} />
        <PaceBand {...p} trail={[]} />
        <FollowBand {...p} proof={undefined} />
      </>
    ),
    { readOnly: true },
  );
  const page = await drawn(e.page);
  const acts = [...page.at.querySelectorAll('button')].map(
    (b) => b.getAttribute('aria-label') ?? b.textContent,
  );
  expect(acts.filter((a) => /^(Remove|Move|\+)/.test(a))).toEqual([]);
  expect(page.at.textContent).toContain('Otherwise');
  await page.gone();
});

const pace = (p: Sheet['pace']) =>
  editor({ pace: p }, (e) => (
    <PaceBand {...e} trail={[{ verdict: 'held' } as never, { verdict: 'told' } as never]} />
  ));

it('adds each part of the pace as it is usually meant, and takes it off again', async () => {
  const e = pace(undefined);
  const page = await drawn(e.page);
  expect(page.at.textContent).toContain('Everything is told at once.');
  const add = async (words: string) => {
    await pressed(saying('+ pace'));
    await vi.waitFor(() => expect(saying(words)).not.toBeNull());
    await pressed(saying(words));
  };
  await add('Fold repeats of the same thing');
  expect(e.now.sheet.pace).toEqual({ repeat: { key: '${record.id}', within: '2h', then: 'drop' } });
  await chosen('What becomes of a repeat', 'is told in its thread');
  expect(e.now.sheet.pace!.repeat!.then).toBe('reply');
  await add('Keep to opening hours');
  expect(e.now.sheet.pace!.quiet).toEqual({
    open: [{ days: ['mon', 'tue', 'wed', 'thu', 'fri'], from: '06:00', to: '18:00' }],
    urgent: 'pass',
  });
  await pressed(saying('+ hours'));
  expect(e.now.sheet.pace!.quiet!.open).toHaveLength(2);
  await add('Limit how many a channel gets');
  expect(e.now.sheet.pace!.limit).toEqual({ posts: 20, per: '1h' });
  expect(page.at.textContent).toContain('1 of the trail held back');
  await typed(labelled('Span of the limit'), '30m');
  expect(e.now.sheet.pace!.limit!.per).toBe('30m');
  for (const what of ['the repeat', 'the limit']) await pressed(labelled(`Remove ${what}`));
  expect(Object.keys(e.now.sheet.pace!)).toEqual(['quiet']);
  await page.gone();
});

it('tells in one digest, at times or every so often', async () => {
  const e = pace({ digest: { at: ['07:00'] } });
  const page = await drawn(e.page);
  await chosen('When the digest comes', 'every');
  expect(e.now.sheet.pace).toEqual({ digest: { every: '4h' } });
  await typed(labelled('Span of the digest'), '1h');
  expect(e.now.sheet.pace).toEqual({ digest: { every: '1h' } });
  await chosen('When the digest comes', 'at');
  expect(e.now.sheet.pace).toEqual({ digest: { at: ['07:00'] } });
  await pressed(labelled('Remove the digest'));
  expect(e.now.sheet.pace).toBeUndefined();
  await page.gone();
});

it('writes messages: facts, tone, another message, its name wherever it is named', async () => {
  const e = editor(
    {
      messages: { alert: { title: 'Late', facts: [{ label: 'Driver', value: 'x' }] } },
      route: { otherwise: { tell: [{ to: 'square/#tours', message: 'alert' }] } },
    },
    (p) => <TellBand {...p} proof={undefined} />,
  );
  const page = await drawn(e.page);
  await typed(labelled('Label of fact 1'), 'Who drives');
  expect(e.now.sheet.messages!.alert!.facts).toEqual([{ label: 'Who drives', value: 'x' }]);
  await pressed(
    [...page.at.querySelectorAll('.ant-segmented-item')]
      .find((s) => s.textContent === 'urgent')!
      .querySelector('input'),
  );
  expect(e.now.sheet.messages!.alert!.tone).toBe('urgent');
  await typed(labelled('Text of the link'), 'Open it');
  expect(e.now.sheet.messages!.alert!.link).toEqual({ text: 'Open it', to: '' });
  await pressed(labelled('Remove fact 1'));
  expect(e.now.sheet.messages!.alert!.facts).toBeUndefined();
  await pressed(saying('+ message'));
  expect(Object.keys(e.now.sheet.messages!)).toEqual(['alert', 'message']);
  await pressed(labelled('Remove the message message'));
  expect(Object.keys(e.now.sheet.messages!)).toEqual(['alert']);
  await page.gone();
});

it('shows the finished message, or why there is none, and whom it would reach', async () => {
  const proof = (m: object, posts: object[] = []) => ({ messages: { alert: m }, posts }) as never;
  const e = (p: never) => editor({}, (q) => <TellBand {...q} proof={p} />);
  let page = await drawn(e(proof({ error: 'record.n is empty' })).page);
  expect(page.at.textContent).toContain('✕ record.n is empty');
  await page.gone();
  page = await drawn(e(proof({ skipped: true })).page);
  expect(page.at.textContent).toContain('The list is empty, so nothing is sent.');
  await page.gone();
  const doc = { title: 'Late', body: [], facts: [], tone: 'plain', link: null };
  page = await drawn(e(proof({ doc, dialects: [] }, [{ to: 'square/#tours', message: 'alert' }])).page);
  expect(page.at.textContent).toContain('Would go to square/#tours.');
  await page.gone();
  page = await drawn(e(proof({ doc, dialects: [] })).page);
  expect(page.at.textContent).toContain('Would not be sent for this arrival.');
  await page.gone();
});

const row = (name: string, n: number) => ({
  name,
  when: { field: 'litres', at_least: n },
  tell: [{ to: 'square/#tours', message: 'alert' }],
});
const route = (r: Sheet['route']) =>
  editor({ route: r }, (e) => (
    <RouteBandView
      {...e}
      proof={undefined}
      trail={[{ verdict: 'told', row: 'Much' } as never, { verdict: 'told', row: 'Much, Little' } as never]}
      table={undefined}
    />
  ));

it('adds rows, moves them by press and by key, and removes them', async () => {
  const e = route({ rows: [row('Much', 2000), row('Little', 10)] });
  const page = await drawn(e.page);
  const names = () => (e.now.sheet.route.rows ?? []).map((r) => r.name);
  await pressed(labelled('Move Little up'));
  expect(names()).toEqual(['Little', 'Much']);
  expect(labelled('Move Little up')).toHaveProperty('disabled', true);
  labelled('Name of row 1')!.dispatchEvent(
    new KeyboardEvent('keydown', { key: 'ArrowDown', altKey: true, bubbles: true }),
  );
  await vi.waitFor(() => expect(names()).toEqual(['Much', 'Little']));
  await pressed(saying('+ row'));
  expect(e.now.sheet.route.rows![2]).toMatchObject({
    name: 'Row 3',
    when: { field: 'litres', at_least: '' },
  });
  await typed(labelled('Name of row 3'), 'Rest');
  expect(names()).toEqual(['Much', 'Little', 'Rest']);
  await pressed(labelled('Remove Rest'));
  expect(names()).toEqual(['Much', 'Little']);
  await pressed(saying('+ tell'));
  expect(e.now.sheet.route.otherwise).toMatchObject({ tell: [{ message: 'alert' }] });
  await page.gone();
});

it('stands as a table, with how many of the trail each row takes', async () => {
  const e = route({
    rows: [row('Much', 2000), { ...row('Little', 10), when: { formula: 'record.litres > 5' } }],
  });
  const page = await drawn(e.page);
  await pressed(saying('as a table'));
  const cells = [...page.at.querySelectorAll('tbody tr')].map((tr) =>
    [...tr.querySelectorAll('td')].map((td) => td.textContent),
  );
  expect(cells).toEqual([
    ['at least 2000', '', '#tours', '2'],
    ['any', 'record.litres > 5', '#tours', '1'],
  ]);
  await pressed(saying('as rows'));
  expect(page.at.querySelector('table')).toBeNull();
  await page.gone();
});

it('says which channels would refuse, and asks again', async () => {
  const asked = practice();
  const e = route({ otherwise: { tell: [{ to: 'square/#board', message: 'alert' }] } });
  const page = await drawn(e.page);
  await vi.waitFor(() => expect(page.at.textContent).toContain('#board (private) (would refuse)'));
  await pressed(saying('Ask again'));
  await vi.waitFor(() => expect(asked.some((a) => a.path === '/api/destinations/ask')).toBe(true));
  await pressed(labelled('Tell another channel of otherwise'));
  await vi.waitFor(() => expect(e.now.sheet.route.otherwise!.tell).toHaveLength(2));
  await pressed(labelled('Stop telling channel 1 of otherwise'));
  expect(e.now.sheet.route.otherwise!.tell).toHaveLength(1);
  await page.gone();
});

it('has something follow: a record changed, one added, a workflow called', async () => {
  const e = editor({}, (p) => <FollowBand {...p} proof={undefined} />);
  const page = await drawn(e.page);
  const add = async (words: string) => {
    await pressed(saying('+ follow up'));
    await vi.waitFor(() => expect(saying(words)).not.toBeNull());
    await pressed(saying(words));
  };
  await add('Change the record');
  await add('Call another workflow');
  expect(e.now.sheet.follow).toMatchObject([
    { change: { source: 'tours/collections', key: '${record.id}', set: {} } },
    { call: { workflow: '' } },
  ]);
  await vi.waitFor(() => expect(labelled('Add a field to follow[0]')).not.toBeNull());
  await chosen('Add a field to follow[0]', 'Status');
  expect(e.now.sheet.follow![0]!.change!.set).toEqual({ status: '' });
  await chosen('Workflow called by step 2', 'Called one');
  expect(offered()).not.toContain('Late');
  expect(e.now.sheet.follow![1]!.call!.workflow).toBe('Called one');
  await pressed(labelled('Leave status out of follow[0]'));
  expect(e.now.sheet.follow![0]!.change!.set).toEqual({});
  await pressed(labelled('Remove step 1'));
  await pressed(labelled('Remove step 1'));
  expect(e.now.sheet.follow).toBeUndefined();
  await page.gone();
});

it('says what a failure leads to, the usual one without a word in the sheet', async () => {
  const e = editor({ follow: [{ call: { workflow: 'Called one' } }] }, (p) => (
    <FollowBand {...p} proof={undefined} />
  ));
  const page = await drawn(e.page);
  const choose = async (words: string) => {
    await pressed(page.at.querySelector('[aria-label$="if step 1 fails"]'));
    await vi.waitFor(() => expect(saying(words)).not.toBeNull());
    await pressed(saying(words));
  };
  await choose('go on with the rest');
  expect(e.now.sheet.follow![0]!.if_fails).toBe('go_on');
  await choose('tell a channel');
  expect(e.now.sheet.follow![0]!.if_fails).toMatchObject({ tell: [{ message: 'alert' }] });
  await choose('nothing more follows');
  expect(e.now.sheet.follow![0]!.if_fails).toBeUndefined();
  await page.gone();
});

it('gathers in each of its ways, and names what it gathers once', async () => {
  const e = editor({}, (p) => <GatherBand {...p} proof={undefined} />);
  const page = await drawn(e.page);
  const add = async (words: string) => {
    await pressed(saying('+ gather'));
    await vi.waitFor(() => expect(saying(words)).not.toBeNull());
    await pressed(saying(words));
  };
  await add('A calculation');
  await add('A few lines of script');
  await add('A list of records');
  expect(e.now.sheet.gather!.map((g) => g.name)).toEqual(['value', 'value2', 'list']);
  await typed(labelled('Name of look-up 1'), 'waiting time');
  expect(e.now.sheet.gather![0]!.name).toBe('waitingtime');
  await chosen('How many of list', 'the one');
  expect(e.now.sheet.gather![2]!.find!.take).toBe('one');
  await pressed(labelled('Remove value2'));
  expect(e.now.sheet.gather!.map((g) => g.name)).toEqual(['waitingtime', 'list']);
  await page.gone();
});
