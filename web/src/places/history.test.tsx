import { Route, Routes } from 'react-router';
import { afterEach, beforeEach, expect, it, vi } from 'vitest';
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
import { Arrival } from './arrivals/Arrival';
import { Arrivals } from './arrivals/Arrivals';
import { Welcome } from './people/Welcome';
import { You } from './people/You';
import { RunPosts, RunSteps } from './runs/Sent';
import { Times } from './runs/Times';
import { Today } from './today/Today';

beforeEach(browserParts);
afterEach(() => {
  vi.unstubAllGlobals();
  document.body.innerHTML = '';
});

const wait = (until: () => unknown) => vi.waitFor(() => expect(until()).toBeTruthy());
const writes = (asked: Asked[]) => asked.filter((a) => a.method !== 'GET');
const at = '2026-11-20T06:41:07Z';
const answering = (answers: Record<string, unknown>) =>
  served((a) => ({ body: answers[`${a.method} ${a.path}`] ?? answers[a.path] ?? { items: [] } }));

const line = (path: string, text: string, result: string, seen: string, was?: string) => ({
  path,
  text,
  result,
  seen,
  was,
});

const why = {
  workflow_id: 4,
  workflow: 'Late collections',
  version: 2,
  verdict: 'dropped',
  decided_by: 'keep.all[1]',
  decided_at: at,
  later: '',
  later_at: null,
  proof: {
    starts: true,
    kind: 'updated',
    when: line('watch.when', 'status becomes late', 'true', 'late', 'planned'),
    keep: {
      path: 'keep',
      text: 'all of',
      result: 'false',
      seen: '',
      parts: [
        line('keep.all[0]', 'litres is above 500', 'true', '900'),
        line('keep.all[1]', 'valley is Upper', 'false', 'Mill'),
      ],
    },
    gather: [
      { path: 'gather[0]', name: 'farm', value: 'Sonnleiten', many: false, count: 0 },
      { path: 'gather[1]', name: 'open', value: '', many: true, count: 3 },
      { path: 'gather[2]', name: 'price', value: '', many: false, count: 0, error: 'no answer' },
    ],
  },
};

const one = {
  arrival: {
    seq: 7,
    key: 'COL-7',
    id: 'a7',
    kind: 'updated',
    source: 'tours/collections',
    at,
    by: 'Jonas',
    fields: [
      { field: 'status', label: 'Status', value: 'late', was: 'planned', changed: true, type: 'choice' },
      { field: 'note', label: 'Note', value: '', was: '', changed: false, type: 'text' },
    ],
    record: { status: 'late' },
  },
  why: [why],
  posts: [
    {
      id: 3,
      state: 'refused',
      destination: 'square/#tours',
      title: 'COL-7 is late',
      plain: '',
      answer: 'not let in',
      sent_at: null,
    },
  ],
};

const arrivalAt = (path: string) => (
  <Routes>
    <Route path={path} element={<Arrival />} />
  </Routes>
);

it('says of an arrival what changed, who was told, and which line decided', async () => {
  answering({ '/api/arrivals/7': one });
  const page = await drawn(arrivalAt('/arrivals/:id'), '/arrivals/7');
  await wait(() => page.at.textContent.includes('COL-7'));
  const changed = page.at.querySelector('tr.is-changed')!;
  expect(changed.querySelector('s')!.textContent).toBe('planned');
  expect(changed.textContent).toContain('changed');
  expect(page.at.textContent).toContain('(empty)');
  const decided = page.at.querySelector('tr.is-decider')!;
  expect(decided.textContent).toContain('valley is Upper');
  expect(decided.textContent).toContain('is Mill');
  expect(decided.textContent).toContain('this decided');
  expect(page.at.querySelector('.whylines')!.textContent).toContain('was planned, is late');
  expect(page.at.querySelector('.whylines')!.textContent).toContain('3 records');
  expect(page.at.querySelector('.whylines')!.textContent).toContain('no answer');
  expect(page.at.textContent).toContain('not let in');
  await page.gone();
});

it('decides an arrival again by what is on now, beside what was decided then', async () => {
  const asked = answering({
    '/api/arrivals/7': one,
    'POST /api/arrivals/7/again': { why: [{ ...why, verdict: 'told', version: 3, decided_by: '' }] },
  });
  const page = await drawn(arrivalAt('/arrivals/:id'), '/arrivals/7');
  await wait(() => saying('Decide again'));
  await pressed(saying('Decide again'));
  await wait(() => labelled('As it would be decided now'));
  const now = labelled('As it would be decided now')!;
  expect(now.textContent).toContain('told');
  expect(now.textContent).toContain('version 3');
  expect(writes(asked)).toHaveLength(1);
  await pressed(saying('Close'));
  await wait(() => labelled('As it would be decided now') === null);
  await page.gone();
});

it('lists arrivals with each verdict and its reason, and asks for what it is narrowed to', async () => {
  const row = {
    ...one.arrival,
    changes: [{ field: 'status', label: 'Status', was: 'planned', now: 'late' }],
    verdicts: [
      {
        workflow_id: 4,
        workflow: 'Late',
        verdict: 'dropped',
        because: 'valley is Upper',
        decided_by: 'keep',
        row: '',
        later: '',
        later_at: null,
      },
    ],
  };
  const asked = answering({
    '/api/arrivals': { items: [row, { ...row, seq: 8, key: '', verdicts: [] }], next: 0 },
    '/api/sources': { items: [{ source: 'tours/collections' }] },
  });
  const page = await drawn(<Arrivals />, '/arrivals?q=milk');
  await wait(() => page.at.querySelectorAll('tbody tr').length === 2);
  const rows = [...page.at.querySelectorAll('tbody tr')].map((r) => r.textContent);
  expect(rows[0]).toContain('not valley is Upper');
  expect(rows[1]).toContain('ignored');
  expect(rows[1]).toContain('a7');
  await chosen('Verdict', 'dropped');
  await wait(() => asked.at(-1)!.query.get('verdict') === 'dropped');
  expect(asked.at(-1)!.query.get('q')).toBe('milk');
  const [from] = page.at.querySelectorAll('input[type="datetime-local"]');
  await typed(from!, '2026-11-20T07:00');
  await wait(() => asked.at(-1)!.query.get('since'));
  expect(asked.at(-1)!.query.get('since')).toMatch(/^2026-11-\d\dT\d\d:00:00\.000Z$/);
  await typed(from!, '');
  await wait(() => asked.at(-1)!.query.get('since') === null);
  await page.gone();
});

it('says when nothing fits, and when it has not looked at everything', async () => {
  let next = 0;
  served((a) => ({ body: a.path === '/api/arrivals' ? { items: [], next } : { items: [] } }));
  const page = await drawn(<Arrivals />);
  await wait(() => page.at.textContent.includes('Nothing has come in that fits.'));
  await page.gone();
  next = 900;
  const again = await drawn(<Arrivals />);
  await wait(() => again.at.textContent.includes('look further back'));
  await again.gone();
});

it('shows what was sent in a run, what followed, and goes on from where it stopped', async () => {
  const asked = answering({ '/api/me': { id: 1, name: 'A', role: 'editor' } });
  const step = (n: number, state: string, kind: string) => ({
    id: n,
    n,
    state,
    kind,
    name: `step ${n}`,
    target: 'tours/jobs',
    key: 'J-1',
    answer: state === 'failed' ? 'no such field' : '',
    tried: [],
    not_before: null,
  });
  const page = await drawn(
    <>
      <RunPosts
        posts={[
          {
            id: 3,
            state: 'refused',
            destination: 'square/#tours',
            title: 'Late',
            plain: '',
            under: null,
            answer: 'not let in',
            tried: [],
          } as never,
        ]}
      />
      <RunSteps
        arrival={7}
        workflow={4}
        steps={[step(1, 'done', 'add'), step(2, 'failed', 'change'), step(3, 'skipped', 'call')] as never}
      />
    </>,
  );
  await wait(() => saying('Send again'));
  expect(page.at.querySelector('[data-step="1"]')!.hasAttribute('open')).toBe(false);
  expect(page.at.querySelector('[data-step="2"]')!.textContent).toContain('change in tours/jobs');
  expect(page.at.querySelector('[data-step="2"]')!.textContent).toContain('no such field');
  await pressed(saying('Go on from “step 2”'));
  await wait(() => writes(asked).some((a) => a.path === '/api/runs/7/4/go-on'));
  await pressed(saying('Send again'));
  await wait(() => writes(asked).some((a) => a.path === '/api/outbox/many'));
  await page.draw(
    <>
      <RunPosts posts={[]} />
      <RunSteps arrival={7} workflow={4} steps={[]} />
    </>,
  );
  expect(page.at.textContent).toBe('');
  await page.gone();
});

it('says how long each thing took after the one before', async () => {
  const run = {
    run: { at, decided_at: '2026-11-20T06:41:07.040Z' },
    received_at: '2026-11-20T06:41:07.020Z',
    posts: [
      { destination: 'square/#tours', sent_at: '2026-11-20T06:41:09Z' },
      { destination: 'square/#board', sent_at: null },
    ],
    steps: [{ name: 'job', state: 'done', done_at: '2026-11-20T08:41:09Z' }],
  };
  const page = await drawn(<Times run={run as never} />);
  const texts = [...page.at.querySelectorAll('li')].map(
    (l) => l.querySelector('b')!.textContent + ' ' + l.querySelector('.muted')!.textContent,
  );
  expect(texts).toEqual([
    'happened ',
    'came in +20 ms',
    'decided +20 ms',
    'square/#tours has it +2.0 s',
    'job: done +2.0 h',
  ]);
  await page.gone();
});

it('ends other sessions, and changes a password that is long enough', async () => {
  const asked = answering({
    '/api/me': { id: 1, name: 'Ona', email: 'ona@x.example', role: 'editor' },
    '/api/sign-ins': {
      items: [
        { id: 1, at, seen_at: at, address: '127.0.0.1', program: 'Browser', current: true },
        { id: 2, at, seen_at: at, address: '10.0.0.7', program: 'Other', current: false },
      ],
    },
  });
  const page = await drawn(<You />);
  await wait(() => saying('End'));
  expect(page.at.textContent).toContain('● this one');
  await pressed(saying('End'));
  await wait(() => writes(asked).some((a) => a.path === '/api/sign-ins/2/end'));
  await pressed(saying('End all but this one'));
  await wait(() => writes(asked).some((a) => a.path === '/api/sign-ins/end-others'));
  await typed(page.at.querySelector('#current'), 'old one');
  await typed(page.at.querySelector('#next'), 'short');
  await pressed(saying('Change the password'));
  await wait(() => page.at.textContent.includes('At least 10 characters'));
  expect(writes(asked).some((a) => a.path === '/api/me/password')).toBe(false);
  await typed(page.at.querySelector('#next'), 'long enough now');
  await pressed(saying('Change the password'));
  await wait(() => writes(asked).some((a) => a.path === '/api/me/password'));
  expect(writes(asked).at(-1)!.body).toEqual({ current: 'old one', new: 'long enough now' });
  await page.gone();
});

it('asks the first administrator for a mail address, and others not', async () => {
  let email = '';
  const asked = served((a) =>
    a.method === 'POST'
      ? { status: 422, body: { detail: 'this is no address' } }
      : { body: { email, role: 'administrator', invited_by: 'Marit' } },
  );
  const page = await drawn(<Welcome token="t" />);
  await wait(() => page.at.textContent.includes('You become the first administrator'));
  await typed(page.at.querySelector('#name'), 'Ona');
  await typed(page.at.querySelector('#email'), 'ona@x.example');
  await typed(page.at.querySelector('#password'), 'long enough');
  await pressed(saying('Begin'));
  await wait(() => page.at.textContent.includes('this is no address'));
  expect(writes(asked)[0]!.body).toEqual({ name: 'Ona', email: 'ona@x.example', password: 'long enough' });
  await page.gone();
  email = 'vera@x.example';
  const invited = await drawn(<Welcome token="t" />);
  await wait(() => invited.at.textContent.includes('Marit has invited vera@x.example as administrator.'));
  expect(invited.at.querySelector('#email')).toBeNull();
  await invited.gone();
});

it('says of an empty list what is to be done first, where nothing has ever been', async () => {
  answering({
    '/api/today': {
      begin: [{ done: false, what: 'Connect where news comes from', words: '', go: '/connections/new' }],
    },
  });
  const page = await drawn(<Arrivals />);
  await wait(() =>
    page.at.textContent.includes('Nothing has come in yet. The next step: connect where news comes from.'),
  );
  await page.gone();
});

it('leads on where nothing has been told yet, and claims nothing', async () => {
  const begin = (done: boolean, what: string) => ({ done, what, words: 'how', go: '/connections/new' });
  answering({
    '/api/today': {
      arrivals: 0,
      told: 0,
      needs: [],
      channels: [],
      next: [],
      latest: [],
      begin: [
        begin(true, 'Connect where news comes from'),
        begin(false, 'Connect where to tell'),
        begin(false, 'See a record'),
      ],
    },
  });
  const page = await drawn(<Today />);
  await wait(() => labelled('To begin'));
  expect(page.at.textContent).not.toContain('has been delivered');
  expect(page.at.textContent).toContain('✓ Connect where news comes from');
  expect(page.at.querySelector('[aria-current="step"]')!.textContent).toContain('Connect where to tell');
  expect(page.at.textContent).not.toContain('Channels');
  await page.gone();
});
