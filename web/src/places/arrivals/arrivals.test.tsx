import { Route, Routes } from 'react-router';
import { expect, it } from 'vitest';
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
import { Arrival } from './Arrival';
import { Arrivals } from './Arrivals';

const at = '2026-11-20T06:41:07Z';

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
      link: 'http://square.example/#3',
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
  expect(saying('Look at the post where it is')!.getAttribute('href')).toBe('http://square.example/#3');
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
