import { expect, it } from 'vitest';
import type { WorkflowDetail } from '../../api/client';
import { answering, drawn, pressed, labelled, saying, wait, writes } from '../../testing';
import { SheetMore } from './SheetMore';
import type { useDraft } from './useDraft';
import { Worth } from './Worth';

it('lists the pages that the workflow has shared, and ends one after asking', async () => {
  const share = (n: number, more: object) => ({
    post: 40,
    n,
    text: 'See the answers',
    title: `Visit ${n}`,
    arrival: 12,
    made_at: '2026-11-20T06:00:00Z',
    ends_at: '2026-12-20T06:00:00Z',
    ended_at: null,
    ended_by: '',
    opened: n,
    last_at: null,
    ...more,
  });
  const asked = answering({
    '/api/teams': { items: [] },
    '/api/shares': {
      items: [share(1, {}), share(2, { ended_at: '2026-11-21T06:00:00Z', ended_by: 'Vera' })],
    },
  });
  const w = { id: 3, name: 'Visits', team: null } as unknown as WorkflowDetail;
  const page = await drawn(
    <SheetMore work={{} as ReturnType<typeof useDraft>} workflow={w} viewer={false} />,
  );
  await pressed(labelled('More to do with this workflow'));
  await wait(() => saying('Shared pages') !== null);
  await pressed(saying('Shared pages'));
  await wait(() => document.body.textContent.includes('Visit 2'));
  expect(document.body.textContent).toContain('opened 1 time;');
  expect(document.body.textContent).toContain('Vera ended it');
  await pressed(saying('End it'));
  expect(writes(asked)).toHaveLength(0);
  await wait(() => document.querySelector('.ant-popconfirm .ant-btn-primary') !== null);
  await pressed(document.querySelector('.ant-popconfirm .ant-btn-primary'));
  await wait(() => writes(asked).some((a) => a.path === '/api/posts/40/shares/1'));
  await page.gone();
});

it('counts what came of what was told, by places, and shows nothing where nothing was', async () => {
  const worth = (destination: string, more: object) => ({
    destination,
    posts: 0,
    led: 0,
    useful: 0,
    not_for_me: 0,
    median_s: null,
    last_at: null,
    ...more,
  });
  let items: object[] = [];
  answering({}, (a) => (a.path === '/api/workflows/3/worth' ? { body: { days: 30, items } } : undefined));
  const none = await drawn(<Worth workflow={3} />);
  await wait(() => true);
  expect(none.at.textContent).toBe('');
  await none.gone();
  items = [
    worth('square/#tours', { posts: 1200, led: 30, useful: 4, median_s: 7200 }),
    worth('square/#board', { posts: 5, led: 1, not_for_me: 2, median_s: 40 }),
    worth('square/#cellar', { posts: 1 }),
  ];
  const page = await drawn(<Worth workflow={3} />);
  await wait(() => page.at.textContent.includes('square/#tours'));
  expect(page.at.querySelector('summary')!.textContent).toBe(
    'In 30 days 1,206 posts, of which 31 led to something · useful 4 · not for me 2',
  );
  const cells = [...page.at.querySelectorAll('tbody tr')].map((r) =>
    [...r.querySelectorAll('td')].map((c) => c.textContent).join(' | '),
  );
  expect(cells).toEqual([
    'square/#tours | 1,200 | 30 | 2 h | 4 | 0',
    'square/#board | 5 | 1 | 40 s | 0 | 2',
    'square/#cellar | 1 | 0 | – | 0 | 0',
  ]);
  await page.gone();
});
