import { expect, it, vi } from 'vitest';
import {
  answering,
  chosen,
  drawn,
  labelled,
  pressed,
  saying,
  served,
  typed,
  wait,
  writes,
} from '../../testing';
import { typedPlaces } from '../sheet/PlaceSelect';
import { PatternCard } from './PatternCard';
import { found, Patterns } from './Patterns';
import { Sentence } from './Sentence';

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

it('fills a pattern in with an address, and tells places of two connections apart', async () => {
  const asked = answering(
    {
      '/api/sources': { items: [{ source: 'tours/collections' }] },
      '/api/destinations': {
        items: [
          { name: 'square/#tours', title: '#tours' },
          { name: 'mill/#tours', title: '#tours' },
          { name: 'mill/#shop', title: '#shop' },
        ],
      },
      '/api/connections': {
        items: [
          { id: 'square', title: 'Square', sends: { form: 'listed' } },
          { id: 'mill', title: 'The mill', sends: { form: 'listed' } },
          { id: 'letters', title: 'Letters', sends: { form: 'mail' } },
        ],
      },
      '/api/people-book': { items: [] },
    },
    (a) => (a.method === 'POST' ? { body: { sheet: {} } } : undefined),
  );
  const pattern = {
    name: 'asked-first',
    title: 'Somebody decides',
    note: 'Asks first.',
    blanks: [{ name: 'who', label: 'Who is asked', kind: 'channel', default: '' }],
  };
  const page = await drawn(
    <ul>
      <PatternCard pattern={pattern as never} make={() => Promise.resolve()} />
    </ul>,
  );
  await pressed(saying('▸ Somebody decides'));
  await vi.waitFor(async () => {
    await chosen('Who is asked', 'Letters: an address…');
  });
  await typed(labelled('Who is asked: the address'), 'hq@lindental.example');
  await pressed(saying('Draft the sheet'));
  await wait(() => writes(asked).length === 1);
  expect(writes(asked)[0]!.body).toEqual({ blanks: { who: 'letters/hq@lindental.example' } });
  await page.gone();
});

it('offers an address that is typed where a place is chosen, over what takes such', () => {
  const groups = [
    {
      title: 'Addresses',
      options: [
        { value: 'letters/', label: 'Letters: an address…', form: 'mail' },
        { value: 'phones/', label: 'Phones: a number…', form: 'number' },
        { value: 'rooms/', label: 'Rooms: a room or person…', form: 'room' },
      ],
    },
    { title: 'Square', options: [{ value: 'square/#tours', label: '#tours' }] },
  ];
  const over = (text: string) => typedPlaces(text, groups).map((o) => o.value);
  expect(over(' hq@lindental.example ')).toEqual([
    'letters/hq@lindental.example',
    'rooms/hq@lindental.example',
  ]);
  expect(over('+41 79 123 45 67')).toEqual(['phones/+41 79 123 45 67']);
  expect(over('tours@rooms')).toEqual(['rooms/tours@rooms']);
  expect(over('#to')).toEqual([]);
  expect(over('a list of words')).toEqual([]);
});

it('finds patterns by their words, below the headings that they stand under', async () => {
  const pattern = (name: string, title: string, note: string, group: string) =>
    ({ name, title, note, group, blanks: [] }) as never;
  const all = [
    pattern('new', 'Something new', 'Tells of every record.', 'Records that change'),
    pattern('chart', 'A chart every Monday', 'Columns by week.', 'Lists and figures'),
    pattern('list', 'A round every Monday', 'What is open.', 'Lists and figures'),
  ];
  const names = (words: string) => found(all, words).map(([group, list]) => [group, list.map((p) => p.name)]);
  expect(names('')).toEqual([
    ['Records that change', ['new']],
    ['Lists and figures', ['chart', 'list']],
  ]);
  expect(names('monday COLUMNS')).toEqual([['Lists and figures', ['chart']]]);
  expect(names('figures round')).toEqual([['Lists and figures', ['list']]]);
  served(({ path }) => ({ body: { items: path === '/api/patterns' ? all : [] } }));
  const page = await drawn(<Patterns make={() => Promise.resolve()} />);
  await wait(() => page.at.querySelectorAll('.pattern').length === 3);
  await typed(labelled('Find a pattern'), 'harvest');
  expect(page.at.querySelector('[role="status"]')!.textContent).toContain('No pattern has these words');
  await pressed(saying('look at all of them'));
  expect(page.at.querySelectorAll('.pattern')).toHaveLength(3);
  await page.gone();
});
