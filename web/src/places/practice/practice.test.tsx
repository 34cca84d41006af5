import { expect, it } from 'vitest';
import { answering, drawn, labelled, pressed, saying, typed, wait, writes } from '../../testing';
import { Gate } from './Gate';
import { Square } from './Square';

const at = new Date().toISOString();
const said = (id: number, more: object = {}) => ({
  id,
  channel: '#tours',
  sender: 'Dorfbote',
  title: '',
  text: 'the milk is late',
  facts: null,
  tone: 'plain',
  body: null,
  at,
  ...more,
});

const room = (posts: object[], more: Record<string, unknown> = {}) =>
  answering({
    '/api/me': { id: 1, name: 'Marit', role: 'editor' },
    '/api/practice/square/channels': [{ name: '#tours', purpose: 'Milk', private: false, members: [] }],
    '/api/practice/square/channels/tours/posts': posts,
    ...more,
  });

it('lets one change and take away what one has said oneself, and nothing else', async () => {
  const asked = room([said(1, { author: 'Marit' }), said(2, { author: 'Vera' }), said(3)]);
  const page = await drawn(<Square />);
  await wait(() => labelled('Change what post 1 says'));
  expect(labelled('Change what post 2 says')).toBeNull();
  expect(labelled('Change what post 3 says')).toBeNull();
  await pressed(labelled('Change what post 1 says'));
  await typed(labelled('New text of post 1'), 'the milk is here');
  labelled('New text of post 1')!.dispatchEvent(
    new KeyboardEvent('keydown', { key: 'Enter', bubbles: true }),
  );
  await wait(() => writes(asked).some((a) => a.method === 'PUT'));
  expect(writes(asked)[0]).toMatchObject({
    path: '/api/practice/square/posts/1/said',
    body: { text: 'the milk is here' },
  });
  await pressed(labelled('Take post 1 away'));
  await pressed(saying('Take it away'));
  await wait(() => writes(asked).some((a) => a.method === 'DELETE'));
  await page.gone();
});

it('takes a button that asks for a comment only with one, and says what came of it', async () => {
  const asked = room([said(4, { buttons: [{ text: 'Decline', comment: 'required' }], title: 'May it?' })], {
    'POST /api/practice/square/posts/4/press': { said: 'Thank you.', done: true },
  });
  const page = await drawn(<Square />);
  await wait(() => saying('Decline'));
  await pressed(saying('Decline'));
  await wait(() => labelled('Comment on Decline'));
  expect(writes(asked)).toEqual([]);
  await typed(labelled('Comment on Decline'), 'too dear');
  await pressed(saying('Decline'));
  await wait(() => writes(asked).length === 1);
  expect(writes(asked)[0]!.body).toMatchObject({ button: 0, comment: 'too dear' });
  await wait(() => document.body.textContent.includes('Thank you.'));
  await page.gone();
});

it('has the Counter ask a workflow before it confirms, or nobody again', async () => {
  let address = '';
  const asked = answering({ '/api/me': { id: 1, role: 'editor' } }, (a) => {
    if (a.path !== '/api/practice/apps/counter/gate') return undefined;
    if (a.method === 'PUT') address = (a.body as { address: string }).address;
    if (a.method === 'DELETE') address = '';
    return { body: { app: 'counter', address } };
  });
  const page = await drawn(<Gate app="counter" />);
  await wait(() => page.at.textContent.includes('without asking anybody'));
  expect(saying('Ask before confirming')).toHaveProperty('disabled', true);
  await typed(labelled('Address that is called'), 'http://h/call/7');
  await typed(labelled('Token of the workflow'), 'tok');
  await pressed(saying('Ask before confirming'));
  await wait(() => page.at.textContent.includes('It asks http://h/call/7'));
  expect(writes(asked)[0]!.body).toEqual({ address: 'http://h/call/7', token: 'tok' });
  await pressed(saying('Ask nobody'));
  await wait(() => page.at.textContent.includes('without asking anybody'));
  await page.gone();
});
