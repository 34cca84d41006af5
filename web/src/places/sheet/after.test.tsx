import { useEffect, useState } from 'react';
import { expect, it } from 'vitest';
import { chosen, drawn, labelled, pressed, saying, served, typed, wait } from '../../testing';
import { AskBand, withQuestion } from './AskBand';
import { FollowBand } from './FollowBand';
import { MessageMore } from './MessageMore';
import { renamed, withoutMessage, withRoute, type Message, type Sheet } from './model';
import { noSurroundings, Surroundings } from './surroundings';
import { editor } from './testing';
import type { ProofLines } from '../../api/client';

const places = () =>
  served(({ path }) => ({
    body: {
      items:
        path === '/api/destinations'
          ? [
              { name: 'square/#tours', title: '#tours' },
              { name: 'square/#board', title: '#board' },
            ]
          : path === '/api/teams'
            ? [{ id: 1, name: 'Laboratory' }]
            : path === '/api/workflows'
              ? [{ id: 2, name: 'Ask the board', form: 'called' }]
              : [],
    },
  }));

const asks = (sheet: Sheet) => sheet.ask ?? [];

it('puts a question, with whom, which answers, and until when; the proof goes on with a supposed one', async () => {
  places();
  const proof = {
    asks: [
      {
        name: 'verdict',
        path: 'ask[0]',
        put: true,
        of: [
          { path: 'ask[0].of', to: 'square/#tours', who: 'Vera Kolb' },
          { path: 'ask[0].of', error: 'the address is empty' },
        ],
        choice: 'approve',
      },
    ],
  } as unknown as ProofLines;
  const supposed: Record<string, string>[] = [];
  const first = withQuestion({ messages: { alert: { title: 'x' } } } as unknown as Sheet, 'square/#tours');
  const e = editor(first, ({ sheet, change }) => (
    <AskBand sheet={sheet} change={change} proof={proof} suppose={{}} setSuppose={(s) => supposed.push(s)} />
  ));
  const page = await drawn(e.page);
  await wait(() => page.at.textContent.includes('#tours'));
  expect(page.at.textContent).toContain('known below as verdict.choice');
  expect(page.at.textContent).toContain('● is asked');
  expect(page.at.textContent).toContain('Vera Kolb');
  expect(page.at.textContent).toContain('✕ the address is empty');
  await pressed(labelled('Ask somebody else verdict, too'));
  expect(asks(e.now.sheet)[0]!.of).toEqual(['square/#tours', 'square/#tours']);
  await chosen('Who decides verdict', 'everybody has to agree');
  expect(asks(e.now.sheet)[0]!.all).toBe(true);
  await chosen('Comment of choice 1 of verdict', 'with a comment');
  expect(asks(e.now.sheet)[0]!.choices[0]).toEqual({
    name: 'approve',
    text: 'Approve',
    comment: 'required',
  });
  await pressed(saying('+ choice'));
  await typed(labelled('Choice 3 of verdict'), 'Ask again');
  labelled('Choice 3 of verdict')!.dispatchEvent(new FocusEvent('focusout', { bubbles: true }));
  await wait(
    () => JSON.stringify(asks(e.now.sheet)[0]!.choices[2]) === '{"name":"ask_again","text":"Ask again"}',
  );
  await typed(labelled('When question verdict is reminded of'), '1h, 1d');
  expect(asks(e.now.sheet)[0]!.remind).toEqual(['1h', '1d']);
  await chosen('What counts where nobody answers verdict', 'nothing is chosen');
  expect(asks(e.now.sheet)[0]).not.toHaveProperty('otherwise');
  await chosen('Supposed answer to verdict', 'Decline');
  expect(supposed).toEqual([{ verdict: 'decline' }]);
  await pressed(labelled('Remove question verdict'));
  expect(e.now.sheet.ask).toBeUndefined();
  await page.gone();
});

it('tells others unless somebody takes it: by one press with its button, or by other conditions', async () => {
  places();
  const proof = {
    follow: [
      {
        name: 'tell',
        path: 'follow[0]',
        how: 'tell',
        target: '',
        set: [],
        taken: true,
        within: '15 min',
        of: [{ path: 'p', to: 'square/#board' }],
      },
    ],
  } as unknown as ProofLines;
  const e = editor(
    {
      messages: { alert: { title: 'x' } },
      route: { otherwise: { tell: [{ to: 'square/#tours', message: 'alert' }] } },
    },
    ({ sheet, change }) => <FollowBand sheet={sheet} change={change} proof={proof} />,
  );
  const page = await drawn(e.page);
  await pressed(saying('+ follow up'));
  await wait(() => document.body.textContent.includes('Tell others unless somebody takes it in time'));
  await pressed(
    [...document.querySelectorAll('.ant-dropdown-menu-item')].find((i) =>
      i.textContent.startsWith('Tell others'),
    ) ?? null,
  );
  expect(e.now.sheet.follow![0]!.unless).toEqual({ claimed: true, within: '15m' });
  expect(e.now.sheet.messages!.alert!.buttons).toEqual([{ text: 'I take it', claim: true }]);
  expect(page.at.textContent).toContain('◔ waits 15 min');
  await typed(labelled('How long step 1 waits'), '1h');
  await chosen('What ends step 1', 'somebody takes it or answers');
  expect(e.now.sheet.follow![0]!.unless).toEqual({
    any: [{ claimed: true }, { answered: true }],
    within: '1h',
  });
  await chosen('What ends step 1', 'somebody takes it, or the record is as said');
  await wait(() => page.at.textContent.includes('somebody takes it'));
  expect(labelled('Field of condition 2 of step 1')).not.toBeNull();
  await chosen('What ends step 1', 'somebody answers in its thread');
  expect(e.now.sheet.follow![0]!.unless).toEqual({ answered: true, within: '1h' });
  await pressed(labelled('Remove step 1'));
  expect(e.now.sheet.follow).toBeUndefined();
  await page.gone();
});

/** A message with the parts that not every one has. */
function Parts({ first, show }: { first: Message; show: (m: Message) => void }) {
  const [m, set] = useState(first);
  useEffect(() => show(m), [m, show]);
  return (
    <MessageMore
      name="alert"
      message={m}
      gathered={['milk']}
      set={(next) => {
        const all = Object.entries({ ...m, ...next }).filter(([, v]) => v !== undefined);
        set(Object.fromEntries(all));
      }}
    />
  );
}

const milk = {
  name: 'milk',
  many: true,
  fields: [
    { name: 'due', label: 'Due', type: 'moment' },
    { name: 'litres', label: 'Litres', type: 'number' },
    { name: 'valley', label: 'Valley', type: 'choice' },
  ],
};

const field = (name: string, label: string) => ({ name, label, type: 'text' }) as never;

it('composes buttons, charts, tables and shared pages by choosing', async () => {
  places();
  const now = {} as { m: Message };
  const show = (m: Message) => void (now.m = m);
  const page = await drawn(
    <Surroundings.Provider
      value={{
        ...noSurroundings,
        gathered: [milk],
        fields: [field('status', 'Status'), field('farm', 'Farm')],
      }}
    >
      <Parts first={{ title: 'x' }} show={show} />
    </Surroundings.Provider>,
  );
  await pressed(saying('+ button'));
  expect(now.m.buttons).toEqual([{ text: 'I take it', claim: true }]);
  await chosen('What button 1 of alert does', 'the record is changed');
  await chosen('Add a field to button 1 of alert', 'Status');
  expect(now.m.buttons![0]).toEqual({ text: 'I take it', change: { set: { status: '' } } });
  await wait(() => labelled('Who may press button 1 of alert') !== null);
  await chosen('Who may press button 1 of alert', 'the team Laboratory');
  expect(now.m.buttons![0]!.who).toBe('team:Laboratory');
  await chosen('What button 1 of alert does', 'it is told again later');
  expect(now.m.buttons![0]).toEqual({ text: 'I take it', who: 'team:Laboratory', later: '1h' });
  await chosen('What button 1 of alert does', 'a workflow is started');
  await chosen('Workflow started by button 1 of alert', 'Ask the board');
  expect(now.m.buttons![0]!.call).toEqual({ workflow: 'Ask the board' });
  await pressed(labelled('Remove button 1 of alert'));
  expect(now.m.buttons).toBeUndefined();

  await pressed(saying('+ chart'));
  expect(now.m.picture!.chart).toEqual({
    of: 'milk',
    kind: 'columns',
    value: 'count()',
    at: 'due',
    by: 'week',
  });
  await chosen('Figure of the chart in alert', 'the sum of');
  expect(now.m.picture!.chart!.value).toBe('sum(litres)');
  await chosen('Kind of chart in alert', 'lying bars');
  await chosen('What the chart in alert goes by', 'Valley');
  expect(now.m.picture!.chart).toEqual({ of: 'milk', kind: 'bars', value: 'sum(litres)', by: 'valley' });
  await chosen('Series of the chart in alert', 'Valley');
  expect(now.m.picture!.chart!.split).toBe('valley');
  await pressed(labelled('Remove the picture'));
  await pressed(saying('+ table as a picture'));
  expect(now.m.picture!.table!.columns).toEqual(['due', 'litres', 'valley']);
  await pressed(page.at.querySelector('input[type="checkbox"]'));
  expect(now.m.picture!.table!.total).toBe(true);

  await pressed(saying('+ shared page'));
  expect(now.m.links).toEqual([{ text: 'See more', share: ['status'] }]);
  expect(page.at.textContent).toContain('a page for people without an account');
  await page.gone();
});

it('keeps names together: questions and escalations follow a message that is renamed or taken away', () => {
  const sheet = withRoute({
    dorfbote: 1,
    name: 'T',
    watch: { source: 'a/b' },
    ask: [{ name: 'v', of: 'a/c', message: 'q', choices: ['x', 'y'] }],
    messages: { q: { title: 'q' }, m: { title: 'm' } },
    follow: [{ unless: { within: '1h' }, tell: [{ to: 'a/c', message: 'q' }] }],
  } as unknown as Sheet);
  expect(sheet.route).toEqual({});
  const next = renamed(sheet, 'q', 'question');
  expect([next.ask![0]!.message, next.follow![0]!.tell![0]!.message]).toEqual(['question', 'question']);
  const less = withoutMessage(sheet, 'q');
  expect([less.ask![0]!.message, less.follow![0]!.tell![0]!.message]).toEqual(['m', 'm']);
});
