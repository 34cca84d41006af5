import { expect, it } from 'vitest';
import { answering, drawn } from '../../testing';
import { Findings } from './Findings';

const sums = {
  posts: 3,
  arrivals: 10,
  compared: true,
  was: 2,
  differ: 2,
  needed: 3,
  missed: 0,
  days: ['2026-11-19', '2026-11-20'],
  places: [{ to: 'square/#tours', posts: 3, was: 2, by_day: [1, 2], was_by_day: [1, 1] }],
  differs: [
    {
      kind: 'new',
      arrival: 'a1',
      key: 'C-1',
      at: '2026-11-20T07:00:00Z',
      to: 'square/#tours',
      title: 'One',
      message: 'm',
    },
    {
      kind: 'moved',
      arrival: 'a2',
      key: 'C-2',
      at: '2026-11-20T07:00:00Z',
      to: 'square/#board',
      was_to: 'square/#tours',
      title: 'Two',
      message: 'm',
    },
  ],
  unheard: [
    { verdict: 'dropped', decided_by: 'keep', words: 'litres is at least 5', count: 7, keys: ['C-3'] },
  ],
  noisiest: [{ key: 'C-1', posts: 2 }],
  told: [
    {
      arrival: 'a1',
      key: 'C-1',
      at: '2026-11-20T07:00:00Z',
      to: 'square/#tours',
      title: 'One',
      message: 'm',
      verdict: 'told',
      row: 'Much',
    },
  ],
};

it('says what a rehearsal found, what differs, and who does not hear', async () => {
  answering({});
  const page = await drawn(<Findings sums={sums as never} version={4} />);
  const text = page.at.textContent;
  expect(text).toContain('3 posts for 10 arrivals; version 4, which is on, tells 2. △ 2 posts differ.');
  expect(text).toContain('✓ 3 alerts of this time were of use; each would still be told.');
  expect(text).toContain('+ new');
  expect(text).toContain('→ moved');
  expect(page.at.querySelector('s')!.textContent).toBe('square/#tours');
  expect(text).toContain('litres is at least 5');
  expect(page.at.querySelector('[role="img"]')!.getAttribute('aria-label')).toBe('Posts by day, at most 2');
  await page.draw(
    <Findings
      sums={
        {
          ...sums,
          posts: 0,
          differ: 0,
          places: [],
          differs: [],
          unheard: [],
          noisiest: [],
          told: [],
        } as never
      }
      version={4}
    />,
  );
  expect(page.at.textContent).toContain('✓ No post differs.');
  expect(page.at.textContent).toContain('Nothing would be told.');
  expect(page.at.textContent).toContain('Somebody hears of everything.');
  await page.gone();
});

it('says what would wait for people, and how often others would be told', async () => {
  answering({});
  const waits = [
    { ask: 'verdict', put: 4, reminders: 1, open: 1, longest: '2 d', otherwise: 'Leave it' },
    { ask: 'second', put: 1, reminders: 0, open: 0, longest: '1 h', otherwise: '' },
  ];
  const steps = [{ step: 'follow[0]', words: 'somebody takes it', after: '15 min', told: 1 }];
  const page = await drawn(<Findings sums={{ ...sums, waits, steps } as never} version={4} />);
  const lines = [...page.at.querySelectorAll('[data-testid="waits"] li')].map((l) => l.textContent);
  expect(lines).toEqual([
    'verdict: 4 questions; each waits for up to 2 d, and comes to Leave it; 1 reminder; 1 would still wait at the end',
    'second: 1 question; each waits for up to 1 h, and ends without an answer',
    'Unless somebody takes it within 15 min: others would be told 1 time',
  ]);
  await page.gone();
});
