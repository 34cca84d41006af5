import { expect, it } from 'vitest';
import type { DestinationItem, PostItem } from '../../api/client';
import { answering, drawn, labelled, pressed, saying, wait, writes } from '../../testing';
import { ActBar } from './ActBar';
import { Destinations } from './Destinations';
import { Outbox } from './Outbox';

const me = (role: string) => ({ id: 1, name: 'Marit', role, teams: [] });
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
