import { Route, Routes } from 'react-router';
import { expect, it } from 'vitest';
import { answering, drawn, pressed, saying, wait, writes } from '../../testing';
import { WorthPlace } from './WorthPlace';

const sums = {
  posts: 4,
  was: 16,
  arrivals: 20,
  compared: true,
  needed: 4,
  missed: 0,
  misses: [],
};
const item = {
  kind: 'threshold',
  path: 'keep',
  words: 'Total is at least 1300, not above 5',
  because: 'Of 16 alerts 4 led to something.',
  sheet: { name: 'Late', keep: { field: 'total', at_least: 1300 } },
};
const place = () => (
  <Routes>
    <Route path="/workflows/:id/worth" element={<WorthPlace />} />
    <Route path="/workflows/:id" element={<p>the sheet</p>} />
  </Routes>
);

const served = (workflow: object, found: object = sums, items: object[] = [item]) =>
  answering({
    '/api/me': { id: 1, role: 'editor' },
    '/api/workflows/3': { id: 3, name: 'Late', version: 2, mark: 'm1', changed: false, ...workflow },
    '/api/workflows/3/proposals': { days: 30, alerts: 16, led: 4, left: false, items },
    '/api/rehearsals': { done: true, of: 20, at: 20, sums: found },
    '/api/workflows/3/draft': {},
  });

it('proves a proposal over what came in, and makes it the draft by one press', async () => {
  const asked = served({});
  const page = await drawn(place(), '/workflows/3/worth');
  await wait(() => page.at.textContent.includes('instead of'));
  expect(page.at.textContent).toContain(
    'In 30 days version 2 told of 16 records and moments; people made use of 4.',
  );
  expect(page.at.textContent).toContain('4 posts instead of 16.');
  expect(page.at.textContent).toContain('✓ 4 alerts of this time were of use; each would still be told.');
  await pressed(saying('Make it the draft'));
  await wait(() => page.at.textContent === 'the sheet');
  expect(writes(asked).find((a) => a.method === 'PUT')).toMatchObject({
    path: '/api/workflows/3/draft',
    body: { sheet: item.sheet, seen: 'm1' },
  });
  await page.gone();
});

it('asks before a draft that differs is replaced, and says what would be missed', async () => {
  const misses = [{ key: 'O-7', at: '2026-11-20T07:00:00Z' }];
  const asked = served({ changed: true }, { ...sums, missed: 1, misses });
  const page = await drawn(place(), '/workflows/3/worth');
  await wait(() => page.at.textContent.includes('1 would not be told: O-7'));
  await pressed(saying('Make it the draft'));
  await wait(() => saying('Replace them'));
  expect(writes(asked).some((a) => a.method === 'PUT')).toBe(false);
  await pressed(saying('Replace them'));
  await wait(() => writes(asked).some((a) => a.method === 'PUT'));
  await page.gone();
});

it('says so where there is nothing to propose, and lets it be left as it is', async () => {
  const asked = served({}, sums, []);
  const page = await drawn(place(), '/workflows/3/worth');
  await wait(() => saying('Leave it as it is'));
  expect(page.at.textContent).toContain('No bound or value tells apart');
  await pressed(saying('Leave it as it is'));
  await wait(() => writes(asked).some((a) => a.path === '/api/workflows/3/left'));
  await page.gone();
});
