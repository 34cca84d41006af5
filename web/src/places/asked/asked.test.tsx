import { expect, it } from 'vitest';
import { answering, drawn, labelled, pressed, saying, typed, wait, writes } from '../../testing';
import { RunAlert } from '../runs/RunAlert';
import { Asked } from './Asked';

const me = { id: 1, name: 'Marit', email: 'm@x.example', role: 'editor' };

const ask = (more: object = {}) => ({
  id: 7,
  name: 'verdict',
  title: 'May C-1 go on?',
  workflow: 'Visits',
  workflow_id: 3,
  arrival: 12,
  source: 'a/b',
  key: 'C-1',
  state: 'open',
  all: false,
  asked: ['mail/m@x.example'],
  open: ['mail/m@x.example'],
  yours: ['mail/m@x.example'],
  choices: [
    { name: 'yes', text: 'Approve', comment: 'optional' },
    { name: 'no', text: 'Decline', comment: 'required' },
  ],
  given: [],
  answer: null,
  put_at: '2026-11-20T06:00:00Z',
  went_at: '2026-11-20T06:00:00Z',
  ends_at: '2026-11-22T06:00:00Z',
  otherwise: 'no',
  doc: {
    title: 'May C-1 go on?',
    body: [],
    facts: [],
    tone: 'plain',
    buttons: [{ text: 'Approve', does: 'answer' }],
  },
  ...more,
});

it('answers a question; a no waits for its reason', async () => {
  const asked = answering({
    '/api/me': me,
    '/api/asks': { items: [ask()], yours: 1, next: 0 },
    '/api/asks/7': ask(),
  });
  const page = await drawn(<Asked />);
  await wait(() => saying('Decline') !== null);
  expect(saying('Decline')).toHaveProperty('disabled', true);
  expect(page.at.querySelector('.post-button')).toBeNull();
  await typed(labelled('Comment'), 'full that day');
  expect(saying('Decline')).toHaveProperty('disabled', false);
  await pressed(saying('Decline'));
  await wait(() => writes(asked).length === 1);
  expect(writes(asked)[0]).toMatchObject({
    path: '/api/asks/7/answer',
    body: { choice: 'no', comment: 'full that day', place: 'mail/m@x.example' },
  });
  await page.gone();
});

it('shows what was put to others, what has ended, and has a question taken back only when asked', async () => {
  answering({
    '/api/me': me,
    '/api/asks': {
      items: [
        ask({ yours: [] }),
        ask({
          id: 8,
          title: 'Old one',
          state: 'decided',
          open: [],
          answer: { by: 'Vera', choice: 'no', comment: 'too late', at: '2026-11-20T07:00:00Z', place: '' },
        }),
        ask({
          id: 9,
          title: 'Nobody',
          state: 'decided',
          open: [],
          answer: { by: '', choice: '', comment: '', at: '2026-11-20T07:00:00Z', place: '' },
        }),
      ],
      yours: 0,
      next: 0,
    },
    '/api/asks/7': ask({ yours: [] }),
    '/api/asks/8': ask({
      id: 8,
      title: 'Old one',
      state: 'decided',
      answer: { by: 'Vera', choice: 'no', comment: 'too late', at: '2026-11-20T07:00:00Z', place: '' },
    }),
  });
  const page = await drawn(<Asked />);
  await wait(() => page.at.textContent.includes('Old one'));
  expect(page.at.textContent).toContain(': nothing');
  await pressed([...page.at.querySelectorAll('.askedhead')][0] ?? null);
  await wait(() => page.at.textContent.includes('It was put to others'));
  expect(saying('Approve')).toBeNull();
  await pressed([...page.at.querySelectorAll('.askedhead')][1] ?? null);
  await wait(() => page.at.textContent.includes('too late'));
  expect(page.at.textContent).toContain('by Vera');
  await pressed(saying('Take it back'));
  await wait(() => document.body.textContent.includes('Nothing more is told of it.'));
  await page.gone();
});

it('says what became of a run: who looks after it, what waits, what was done', async () => {
  const alert = {
    claimed_by: '',
    claimed_at: null,
    replied_by: 'Jonas',
    replied_at: null,
    waits: [
      { name: 'tell after 15 min', due_at: null },
      { name: 'tell after 1 h', due_at: '2026-11-20T07:00:00Z' },
    ],
    deeds: [
      { what: 'replied', name: '', by: 'Jonas', words: 'on my way', at: '2026-11-20T06:10:00Z' },
      { what: 'pressed', name: '0', by: 'Vera', words: 'Released', at: '2026-11-20T06:11:00Z' },
      { what: 'followed', name: 'tell', by: '', words: 'told square/#board', at: '2026-11-20T06:15:00Z' },
    ],
  };
  const asked = answering({
    '/api/me': me,
    '/api/runs/12/3/alert': alert,
    '/api/asks': { items: [ask()], yours: 0, next: 0 },
  });
  const page = await drawn(<RunAlert arrival={12} workflow={3} told />);
  await wait(() => page.at.textContent.includes('on my way'));
  const text = page.at.textContent;
  for (const words of [
    'waits for mail/m@x.example until',
    'Nobody looks after it.',
    'tell after 15 min, counted from',
    'Vera pressed “Released”',
    'told square/#board',
  ])
    expect(text).toContain(words);
  await pressed(saying('I take it'));
  await wait(() => writes(asked).some((w) => w.path === '/api/runs/12/3/claim'));
  await page.gone();
});
