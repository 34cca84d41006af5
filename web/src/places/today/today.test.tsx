import { expect, it } from 'vitest';
import { answering, drawn, labelled, pressed, saying, wait, writes } from '../../testing';
import { Today } from './Today';

const me = (role: string) => ({ id: 1, name: 'Marit', role, teams: [] });

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

it('shows which questions wait, of whom and until when', async () => {
  const ask = (id: number, more: object) => ({
    id,
    title: `May C-${id} go on?`,
    workflow: 'Visits',
    workflow_id: 3,
    open: ['mail/board@x.example'],
    yours: [],
    put_at: '2026-11-20T06:00:00Z',
    ends_at: null,
    ...more,
  });
  const items = [1, 2, 3, 4, 5, 6, 7].map((id) =>
    ask(id, id === 2 ? { open: ['mail/m@x.example', 'square/#board'] } : {}),
  );
  answering({
    '/api/today': { arrivals: 1, told: 0, needs: [], channels: [], next: [], latest: [] },
    '/api/asks': { items, yours: 1, next: 0 },
  });
  const page = await drawn(<Today />);
  await wait(() => page.at.textContent.includes('Waiting for an answer'));
  expect(page.at.textContent).toContain('asked of mail/board@x.example');
  expect(page.at.textContent).toContain('asked of mail/m@x.example, square/#board');
  expect(page.at.querySelector('a[href="/asked/1"]')!.textContent).toBe('May C-1 go on?');
  expect(page.at.textContent).not.toContain('May C-7');
  expect(page.at.querySelector('a[href="/asked"]')!.textContent).toBe('All that are open');
  await page.gone();
});
