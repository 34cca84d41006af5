import { act } from 'react';
import { Route, Routes } from 'react-router';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { browserParts, drawn, served } from '../testing';
import { Arrival } from './arrivals/Arrival';
import { Arrivals } from './arrivals/Arrivals';
import { Asked } from './asked/Asked';
import { Connection } from './connections/Connection';
import { Connections } from './connections/Connections';
import { Connect } from './connections/Connect';
import { Source } from './connections/Source';
import { NewWorkflow } from './drafting/NewWorkflow';
import { Outbox } from './outbox/Outbox';
import { Book } from './people/Book';
import { People } from './people/People';
import { You } from './people/You';
import { Practice } from './practice/Practice';
import { RehearsalPlace } from './rehearsal/RehearsalPlace';
import { WorthPlace } from './rehearsal/WorthPlace';
import { Run } from './runs/Run';
import { SheetPlace } from './sheet/SheetPlace';
import { Today } from './today/Today';
import { Workflows } from './workflows/Workflows';

const places: [at: string, path: string, what: React.ReactNode][] = [
  ['/today', '/today', <Today />],
  ['/workflows', '/workflows', <Workflows />],
  ['/workflows/new', '/workflows/new', <NewWorkflow />],
  ['/workflows/1', '/workflows/:id', <SheetPlace />],
  ['/workflows/1/rehearsal', '/workflows/:id/rehearsal', <RehearsalPlace />],
  ['/workflows/1/worth', '/workflows/:id/worth', <WorthPlace />],
  ['/arrivals', '/arrivals', <Arrivals />],
  ['/arrivals/1', '/arrivals/:id', <Arrival />],
  ['/runs/1/1', '/runs/:arrival/:workflow', <Run />],
  ['/asked', '/asked', <Asked />],
  ['/people', '/people', <People />],
  ['/people-book', '/people-book', <Book />],
  ['/you', '/you', <You />],
  ['/outbox', '/outbox', <Outbox />],
  ['/outbox?state=waiting', '/outbox', <Outbox />],
  ['/connections', '/connections', <Connections />],
  ['/connections/new', '/connections/new', <Connect />],
  ['/connections/farm', '/connections/:id', <Connection />],
  ['/sources/farm/rows', '/sources/:connection/:kind', <Source />],
  ['/practice', '/practice', <Practice />],
];

/** What would say that there is nothing. */
const nothing =
  /nothing|nobody|no data|\bnone\b|\bno \w+s? (?:yet|has|have|in)\b|there (?:is|are) no\b|\bnot? .{0,30}\byet\b|\b0 (?!off|told)[a-z]+/i;

const me = { id: 1, name: 'Marit', mail: 'm@x.example', role: 'administrator', teams: [], keeps_book: true };

const rows = {
  source: 'farm/rows',
  connection: 'farm',
  title: 'Rows',
  key_field: 'id',
  title_field: '',
  link_field: '',
  settings: {},
  poll: null,
};

const farm = {
  ...{
    id: 'farm',
    kind: 'hook',
    kind_title: 'Hook',
    title: 'Farm',
    address: 'http://here.example/in/farm',
    signed: true,
    key_field: 'id',
    settings: {},
  },
  ...{
    secrets: [],
    paused: false,
    receives: true,
    signs: true,
    last_ok: null,
    failing_since: null,
    last_error: '',
    secret_expires: null,
  },
  ...{
    sources: ['farm/rows'],
    last_arrival: null,
    today: 0,
    calls_a_day: 0,
    reads: [rows],
    health: [],
    requests: [],
    uses: [],
    persons: 0,
  },
};

const sheet = {
  ...{
    dorfbote: 1,
    name: 'Rows',
    watch: { source: 'farm/rows' },
    messages: { alert: { title: '${record.id}' } },
  },
  route: { otherwise: { tell: [{ to: 'square/#tours', message: 'alert' }] } },
};

const workflow = {
  ...{
    id: 1,
    name: 'Rows',
    note: '',
    icon: '',
    colour: '',
    on: true,
    version: 1,
    changed: false,
    source: 'farm/rows',
    form: '',
    watches: '',
    tells: [],
  },
  ...{
    problems: 0,
    last_told: null,
    days: [1, 2],
    updated_at: '2026-11-30T10:00:00Z',
    updated_by: 'Marit',
    team: null,
    text: '',
    mark: 'm',
    sheet,
  },
};

/** What is known of a place at first, while all that stands on it is still on its way. */
const first: Record<string, unknown> = {
  '/api/me': me,
  '/api/connections/farm': farm,
  '/api/connections': { items: [farm] },
  '/api/sources': { items: [rows] },
  '/api/workflows/1': workflow,
  '/api/workflows': { items: [workflow] },
};

beforeEach(() => {
  browserParts();
  vi.stubGlobal(
    'EventSource',
    class {
      close = () => undefined;
      addEventListener = () => undefined;
    },
  );
});
afterEach(() => vi.unstubAllGlobals());

const settled = () =>
  act(async () => {
    await new Promise((r) => setTimeout(r, 30));
  });

const waits = () => new Promise<never>(() => undefined);

// What is still on its way is never taken for nothing, neither the place itself nor what stands on it.
describe.each([
  ['all of it', (path: string) => path === '/api/me'],
  ['what stands on it', (path: string) => path in first],
])('while %s is on its way', (_, here) => {
  it.each(places)('does not say that there is nothing: %s', async (at, path, what) => {
    served((a) => (here(a.path) ? { body: first[a.path] } : waits()));
    const page = await drawn(
      <Routes>
        <Route path={path} element={what} />
      </Routes>,
      at,
    );
    await settled();
    expect(page.at.textContent).not.toMatch(nothing);
    await page.gone();
  });
});

// What cannot be asked for is not nothing either: it is trouble, which can be tried again.
it.each(
  places.filter(
    ([at]) => !['/you', '/workflows/new', '/connections/new', '/workflows/1/rehearsal'].includes(at),
  ),
)('says what went wrong instead: %s', async (at, path, what) => {
  served((a) =>
    a.path === '/api/me'
      ? { body: me }
      : { status: 500, body: { title: 'Trouble', detail: 'the database is away' } },
  );
  const page = await drawn(
    <Routes>
      <Route path={path} element={what} />
    </Routes>,
    at,
  );
  await vi.waitFor(() => expect(page.at.textContent).toContain('the database is away'), { timeout: 4000 });
  await page.gone();
});
