import { afterEach, beforeEach, expect, it, vi } from 'vitest';
import type { DestinationItem, PostItem, Setting } from '../api/client';
import {
  browserParts,
  chosen,
  drawn,
  labelled,
  pressed,
  saying,
  served,
  typed,
  type Asked,
} from '../testing';
import { freeName, shortName } from './connections/Connect';
import { SettingsForm, applies, missing } from './connections/SettingsForm';
import { PatternCard } from './drafting/PatternCard';
import { Sentence } from './drafting/Sentence';
import { ActBar } from './outbox/ActBar';
import { Destinations } from './outbox/Destinations';
import { Outbox } from './outbox/Outbox';
import { People } from './people/People';
import { Findings } from './rehearsal/Findings';
import { Today } from './today/Today';
import { StartDialog } from './workflows/StartDialog';
import { Workflows } from './workflows/Workflows';

beforeEach(browserParts);
afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
  document.body.innerHTML = '';
});

/** A server that answers by path, and with an empty list where nothing is said. */
const answering = (
  answers: Record<string, unknown>,
  more?: (a: Asked) => { status?: number; body?: unknown } | undefined,
) =>
  served(
    (a) =>
      more?.(a) ?? {
        body: answers[`${a.method} ${a.path}`] ?? answers[a.path] ?? { items: [] },
      },
  );

const me = (role: string) => ({ id: 1, name: 'Marit', role, teams: [] });
const wait = (until: () => unknown) => vi.waitFor(() => expect(until()).toBeTruthy());
const writes = (asked: Asked[]) => asked.filter((a) => a.method !== 'GET');

const setting = (name: string, type: string, more: Partial<Setting> = {}): Setting =>
  ({ name, label: name[0]!.toUpperCase() + name.slice(1), type, ...more }) as Setting;

const settings = [
  setting('where', 'choice', { options: ['a file', 'at an address'], default: 'a file', required: true }),
  setting('address', 'address', { when: 'where=at an address', required: true }),
  setting('password', 'secret'),
  setting('strict', 'yes/no'),
  setting('words', 'long'),
  setting('rare', 'number', { more: true, default: '7' }),
];

it('asks for a setting only where the others say that it is needed', () => {
  expect(applies(settings[1]!, {}, settings)).toBe(false);
  expect(applies(settings[1]!, { where: 'at an address' }, settings)).toBe(true);
  expect(missing(settings, {}).map((f) => f.name)).toEqual([]);
  expect(missing(settings, { where: 'at an address' }).map((f) => f.name)).toEqual(['address']);
  expect(missing([settings[1]!], {}, { where: 'at an address' })).toHaveLength(1);
});

it('shows the settings that are needed, the rest behind a fold, and secrets that are kept', async () => {
  let now: Record<string, string> = {};
  const form = (values: Record<string, string>) => (
    <SettingsForm fields={settings} values={values} change={(v) => (now = v)} secrets={['password']} />
  );
  const page = await drawn(form({}));
  const labels = () => [...page.at.querySelectorAll('label')].map((l) => l.textContent);
  expect(labels()).toEqual(['Where', 'Password (if wanted)', 'Strict', 'Words (if wanted)']);
  expect(page.at.querySelector('#set-password')!.getAttribute('placeholder')).toBe(
    'set; leave empty to keep it',
  );
  await pressed(saying('More settings (1) ›'));
  expect(labels()).toContain('Rare (if wanted)');
  await page.draw(form({ where: 'at an address' }));
  expect(labels()).toContain('Address');
  await typed(page.at.querySelector('#set-address'), 'https://x.example');
  expect(now).toEqual({ where: 'at an address', address: 'https://x.example' });
  await typed(page.at.querySelector('#set-words'), 'one\ntwo');
  expect(now.words).toBe('one\ntwo');
  await pressed(page.at.querySelector('#set-strict'));
  expect(now.strict).toBe('yes');
  await page.gone();
});

it('makes a short name of what people call something, free and without marks', () => {
  expect(shortName('Käserei Obermatt & Söhne')).toBe('kaserei-obermatt-sohne');
  expect(shortName('  ')).toBe('');
  expect(freeName('tours', new Set(['tours', 'tours-2']))).toBe('tours-3');
  expect(freeName('', new Set(['']))).toBe('');
});

const destination = (name: string, more: Partial<DestinationItem> = {}): DestinationItem =>
  ({
    name,
    title: name,
    waiting: 0,
    refused: 0,
    sent: 5,
    failures: 0,
    paused: false,
    per_minute: 0,
    bears: 0,
    reason: '',
    held_by: '',
    shut: '',
    ...more,
  }) as DestinationItem;

it('shows where something waits, and the rest on asking', async () => {
  const asked = answering({});
  let chose: string | undefined;
  const items = [
    destination('square/#tours', { waiting: 3, oldest: new Date(Date.now() - 3_600_000).toISOString() }),
    destination('square/#shut', { paused: true, reason: 'the channel is gone', refused: 1 }),
    destination('square/#calm', { per_minute: 30 }),
    destination('square/#slow', { failures: 5, waiting: 1 }),
  ];
  const page = await drawn(
    <Destinations items={items} chosen={undefined} choose={(n) => (chose = n)} editor />,
  );
  const at = (name: string) => page.at.querySelector(`[data-destination="${name}"]`)!;
  expect(at('square/#tours').textContent).toContain('3 wait, the oldest since');
  expect(at('square/#shut').textContent).toContain('✕ paused');
  expect(at('square/#shut').textContent).toContain('It answered: the channel is gone');
  expect(at('square/#slow').textContent).toContain('△ does not answer');
  expect(at('square/#calm')).toBeNull();
  await pressed(saying('The other 1 destinations: nothing waits, none is paused'));
  expect(at('square/#calm').textContent).toContain('● open');
  await pressed(at('square/#tours').querySelector('.rowbutton'));
  expect(chose).toBe('square/#tours');
  await pressed(saying('Send what waited'));
  await wait(() => writes(asked).some((a) => a.path === '/api/destinations/resume'));
  expect(writes(asked)[0]!.body).toEqual({ name: 'square/#shut' });
  await page.gone();
});

it('sends after mending only what is chosen, and drops the rest', async () => {
  const post = (id: number, title: string) => ({
    id,
    title,
    plain: '',
    created_at: new Date().toISOString(),
    workflow: 'Late',
    state: 'waiting',
  });
  const asked = answering({}, (a) =>
    a.path === '/api/posts'
      ? {
          body: {
            items: a.query.get('state') === 'waiting' ? [post(1, 'One'), post(2, 'Two')] : [],
            next: 0,
          },
        }
      : undefined,
  );
  const page = await drawn(
    <Destinations
      items={[destination('square/#shut', { paused: true, waiting: 2, reason: 'closed' })]}
      chosen={undefined}
      choose={() => undefined}
      editor
    />,
  );
  await pressed(saying('Choose which …'));
  await wait(() => page.at.querySelectorAll('.resume li').length > 1);
  await pressed(page.at.querySelectorAll('.resume input')[1]!);
  await pressed(saying('Send these 1, drop the other 1'));
  await wait(() => writes(asked).length > 0);
  expect(writes(asked)[0]!.body).toEqual({ name: 'square/#shut', only: [1] });
  await page.gone();
});

const post = (id: number, state: string) => ({ id, state, title: `Post ${id}` }) as PostItem;

it('offers for posts that are chosen what can be done with some of them, and asks before it drops', async () => {
  const asked = answering({ 'POST /api/outbox/many': { passed: 1 } });
  let cleared = 0;
  const page = await drawn(
    <ActBar
      chosen={[post(1, 'waiting'), post(2, 'refused'), post(3, 'dropped')]}
      clear={() => (cleared += 1)}
    />,
  );
  const buttons = [...page.at.querySelectorAll('button')].map((b) => b.textContent.trim());
  expect(buttons).toEqual(['Send again (2)', 'Hold (2)', 'Drop (2)', 'Choose none']);
  await pressed(saying('Send again (2)'));
  await wait(() => cleared === 1);
  expect(writes(asked)[0]!.body).toEqual({ do: 'again', ids: [2, 3] });
  await wait(() => document.body.textContent.includes('1 of them had moved on meanwhile'));
  await pressed(saying('Drop (2)'));
  expect(writes(asked)).toHaveLength(1);
  await wait(() => saying('Drop them'));
  await pressed(saying('Drop them'));
  await wait(() => writes(asked).length === 2);
  expect(writes(asked)[1]!.body).toEqual({ do: 'drop', ids: [1, 2] });
  await page.gone();
});

it('opens a post with what went out and what came back, and chooses by ticks', async () => {
  const at = '2026-11-20T07:00:00Z';
  const item = {
    ...post(7, 'refused'),
    plain: '',
    destination: 'square/#tours',
    workflow: 'Late',
    workflow_id: 1,
    arrival: 3,
    attempts: 2,
    answer: 'not let in',
    created_at: at,
    key: 'k7',
  };
  answering({
    '/api/me': me('editor'),
    '/api/posts': { items: [item, { ...item, id: 8, state: 'sent', title: 'Sent one' }], next: 0 },
    '/api/posts/7': {
      post: item,
      tried: [{ at, status: 403, answer: 'not let in', took_ms: 5, address: 'POST /posts', sent: '{}' }],
      arrival: 'COL-7',
    },
  });
  const page = await drawn(<Outbox />, '/outbox?state=refused');
  await wait(() => page.at.querySelector('[data-post="7"]'));
  await wait(() => labelled('Choose Post 7'));
  expect(labelled('Choose Sent one')).toBeNull();
  expect(page.at.querySelector('[data-post="7"]')!.textContent).toContain('not let in 2 tries');
  await pressed(page.at.querySelector('[data-post="7"] .rowbutton'));
  await wait(() => page.at.querySelector('[aria-label="Answer as received"]'));
  expect(page.at.textContent).toContain('HTTP 403');
  expect(page.at.textContent).toContain('COL-7');
  await pressed(labelled('Choose Post 7'));
  expect(page.at.querySelector('.actbar')!.textContent).toContain('1 chosen');
  await page.gone();
});

const sums = {
  posts: 3,
  arrivals: 10,
  compared: true,
  was: 2,
  differ: 2,
  days: ['2026-11-19', '2026-11-20'],
  places: [{ to: 'square/#tours', posts: 3, was: 2, by_day: [1, 2], was_by_day: [1, 1] }],
  differs: [
    {
      kind: 'new',
      arrival: 'a1',
      key: 'C-1',
      at: '2026-11-20T07:00:00Z',
      to: 'square/#tours',
      title: 'One',
      message: 'm',
    },
    {
      kind: 'moved',
      arrival: 'a2',
      key: 'C-2',
      at: '2026-11-20T07:00:00Z',
      to: 'square/#board',
      was_to: 'square/#tours',
      title: 'Two',
      message: 'm',
    },
  ],
  unheard: [
    { verdict: 'dropped', decided_by: 'keep', words: 'litres is at least 5', count: 7, keys: ['C-3'] },
  ],
  noisiest: [{ key: 'C-1', posts: 2 }],
  told: [
    {
      arrival: 'a1',
      key: 'C-1',
      at: '2026-11-20T07:00:00Z',
      to: 'square/#tours',
      title: 'One',
      message: 'm',
      verdict: 'told',
      row: 'Much',
    },
  ],
};

it('says what a rehearsal found, what differs, and who does not hear', async () => {
  answering({});
  const page = await drawn(<Findings sums={sums as never} version={4} />);
  const text = page.at.textContent;
  expect(text).toContain('3 posts for 10 arrivals; version 4, which is on, tells 2. △ 2 posts differ.');
  expect(text).toContain('+ new');
  expect(text).toContain('→ moved');
  expect(page.at.querySelector('s')!.textContent).toBe('square/#tours');
  expect(text).toContain('litres is at least 5');
  expect(page.at.querySelector('[role="img"]')!.getAttribute('aria-label')).toBe('Posts by day, at most 2');
  await page.draw(
    <Findings
      sums={
        {
          ...sums,
          posts: 0,
          differ: 0,
          places: [],
          differs: [],
          unheard: [],
          noisiest: [],
          told: [],
        } as never
      }
      version={4}
    />,
  );
  expect(page.at.textContent).toContain('✓ No post differs.');
  expect(page.at.textContent).toContain('Nothing would be told.');
  expect(page.at.textContent).toContain('Somebody hears of everything.');
  await page.gone();
});

it('says what needs a person today, and lets who may take a notice away', async () => {
  const today = {
    arrivals: 12,
    told: 3,
    needs: [
      {
        id: 5,
        what: 'square/#tours would refuse a post',
        words: 'It is private.',
        go: '/connections/square',
      },
      { id: 0, what: 'tours/vats is silent', words: 'Nothing has come.', go: '/sources/tours/vats' },
    ],
    channels: [{ name: 'square/#tours', today: 9, usual: 2.25, unusual: 'more' }],
    next: [],
    latest: [],
  };
  let role = 'editor';
  const asked = answering({ '/api/today': today }, (a) =>
    a.path === '/api/me' ? { body: me(role) } : undefined,
  );
  const page = await drawn(<Today />);
  await wait(() => saying('Seen to'));
  expect(page.at.textContent).toContain('12 arrivals so far, 3 of them told about.');
  expect(page.at.textContent).toContain('△ more than usual');
  expect([...page.at.querySelectorAll('button')].filter((b) => b.textContent === 'Seen to')).toHaveLength(1);
  await pressed(saying('Seen to'));
  await wait(() => writes(asked).some((a) => a.path === '/api/notices/5/done'));
  await page.gone();
  role = 'viewer';
  const looks = await drawn(<Today />);
  await wait(() => looks.at.textContent.includes('silent'));
  expect(saying('Seen to')).toBeNull();
  await looks.gone();
});

it('starts a workflow once every question that must be is answered', async () => {
  const asked = answering(
    {
      '/api/workflows/3/start': {
        form: 'start',
        source: '',
        confirm: 'Tell the board?',
        ask: [
          { name: 'why', label: 'Why', type: 'text', required: true },
          { name: 'n', label: 'How many', type: 'whole number', help: 'If known.' },
        ],
      },
    },
    (a) =>
      a.method === 'POST'
        ? {
            status: 422,
            body: { detail: 'the answers are not right', errors: [{ message: 'n: many is no number' }] },
          }
        : undefined,
  );
  let closed = 0;
  const page = await drawn(<StartDialog id={3} name="Ask" close={() => (closed += 1)} />);
  await wait(() => document.querySelector('#answer-why'));
  expect(document.body.textContent).toContain('Tell the board?');
  expect(saying('Yes, start it')).toHaveProperty('disabled', true);
  await typed(document.querySelector('#answer-why'), 'late');
  await typed(document.querySelector('#answer-n'), 'many');
  await pressed(saying('Yes, start it'));
  await wait(() => document.body.textContent.includes('n: many is no number'));
  expect(writes(asked)[0]!.body).toEqual({ records: [], answers: { why: 'late', n: 'many' } });
  expect(closed).toBe(0);
  await page.gone();
});

it('lists workflows with what they watch, and switches them', async () => {
  const w = {
    id: 1,
    name: 'Late',
    on: false,
    source: 'tours/collections',
    watches: 'status becomes late',
    tells: ['square/#tours'],
    days: [],
    version: 2,
    problems: 1,
    changed: true,
    colour: 'green',
    form: '',
  };
  const asked = answering({
    '/api/me': me('editor'),
    '/api/workflows': { items: [w, { ...w, id: 2, name: 'Other', on: true, problems: 0 }] },
  });
  const page = await drawn(<Workflows />);
  await wait(() => labelled('Late is off'));
  expect(page.at.textContent).toContain('1 on, 1 off');
  expect(page.at.textContent).toContain('draft has 1 error');
  expect(page.at.textContent).toContain('draft differs');
  await pressed(labelled('Other is on'));
  await wait(() => writes(asked).some((a) => a.path === '/api/workflows/2/off'));
  await page.gone();
});

const person = (id: number, name: string, more = {}) => ({
  id,
  name,
  email: `${id}@x.example`,
  role: 'editor',
  teams: [],
  gone: false,
  seen: null,
  ...more,
});

it('lets administrators change roles and let people go, after asking; others look', async () => {
  let role = 'administrator';
  const asked = answering(
    {
      '/api/people': {
        items: [
          person(1, 'Marit', { role: 'administrator' }),
          person(2, 'Jonas'),
          person(3, 'Vera', { gone: true }),
        ],
      },
      '/api/teams': { items: [{ id: 9, name: 'Tours' }] },
    },
    (a) => (a.path === '/api/me' ? { body: me(role) } : undefined),
  );
  const page = await drawn(<People />);
  await wait(() => labelled('Role of Jonas'));
  expect([...page.at.querySelectorAll('button')].filter((b) => b.textContent === 'Let go')).toHaveLength(1);
  await chosen('Role of Jonas', 'viewer');
  await wait(() => writes(asked).length === 1);
  expect(writes(asked)[0]).toMatchObject({
    method: 'PATCH',
    path: '/api/people/2',
    body: { role: 'viewer' },
  });
  await pressed(saying('Let go'));
  await wait(() => saying('Let them go'));
  await pressed(saying('Let them go'));
  await wait(() => writes(asked).length === 2);
  expect(writes(asked)[1]!.body).toEqual({ gone: true });
  await pressed(saying('Take back'));
  await wait(() => writes(asked).length === 3);
  await page.gone();
  role = 'viewer';
  const looks = await drawn(<People />);
  await wait(() => looks.at.textContent.includes('Jonas'));
  expect(labelled('Role of Jonas')).toBeNull();
  expect(labelled('Mail address to invite')).toBeNull();
  await looks.gone();
});

it('reads a sentence back word by word, asks what it did not understand, and drafts what it did', async () => {
  let drafted: unknown;
  const asked = answering({}, (a) => {
    if (a.path !== '/api/sentence') return undefined;
    const { text, waived } = a.body as { text: string; waived: string[] };
    const open = text.includes('soonish') && !waived.includes('soonish');
    return {
      body: {
        words: [
          { text: 'tell', as: 'word' },
          { text: '#tours', as: 'channel', means: 'square/#tours' },
        ],
        questions: open
          ? [{ ask: 'When is soonish?', about: 'soonish', choices: ['at once'], waives: true }]
          : [],
        sheet: open ? null : { name: 'Drafted' },
      },
    };
  });
  const page = await drawn(
    <Sentence
      make={(s: unknown) => {
        drafted = s;
        return Promise.resolve();
      }}
    />,
  );
  await typed(labelled('What should be told, to whom, when'), 'tell #tours soonish');
  await vi.waitFor(() => expect(page.at.textContent).toContain('When is soonish?'), 3000);
  expect(saying('Draft the sheet')).toHaveProperty('disabled', true);
  await pressed(saying('Leave it out'));
  await vi.waitFor(() => expect(saying('Draft the sheet')).toHaveProperty('disabled', false), 3000);
  expect(page.at.textContent).toContain('Left out: “soonish”');
  await pressed(saying('Draft the sheet'));
  expect(drafted).toEqual({ name: 'Drafted' });
  expect(asked.every((a) => a.path !== '/api/workflows')).toBe(true);
  await page.gone();
});

it('fills a pattern in, and says what the server says is missing', async () => {
  const asked = answering(
    {
      '/api/sources': { items: [{ source: 'tours/collections' }] },
      '/api/destinations': { items: [{ name: 'square/#tours', title: '#tours' }] },
    },
    (a) =>
      a.method === 'POST'
        ? { status: 422, body: { detail: 'a blank is empty', errors: [{ message: 'choose a channel' }] } }
        : undefined,
  );
  const pattern = {
    name: 'new-records',
    title: 'New records',
    note: 'Tells of what is new.',
    blanks: [
      { name: 'source', label: 'Of what', kind: 'source', default: '' },
      { name: 'channel', label: 'To whom', kind: 'channel', default: '' },
      { name: 'span', label: 'Within', kind: 'span', default: '2h' },
      { name: 'say', label: 'Say', kind: 'text', default: 'Hello' },
    ],
  };
  const page = await drawn(
    <ul>
      <PatternCard pattern={pattern as never} make={() => Promise.resolve()} />
    </ul>,
  );
  await pressed(saying('▸ New records'));
  await wait(() => labelled('Of what'));
  expect(saying('Draft the sheet')).toHaveProperty('disabled', true);
  await vi.waitFor(async () => {
    await chosen('Of what', 'tours/collections');
  });
  await typed(labelled('Say'), 'Good morning');
  await pressed(saying('Draft the sheet'));
  await wait(() => page.at.querySelector('[role="alert"]'));
  expect(page.at.querySelector('[role="alert"]')!.textContent).toBe('✕ a blank is empty choose a channel');
  expect(writes(asked)[0]!.body).toEqual({
    blanks: { source: 'tours/collections', channel: '', span: '2h', say: 'Good morning' },
  });
  await page.gone();
});
