import { expect, it } from 'vitest';
import { answering, drawn, pressed, saying, wait, writes } from '../../testing';
import { RunPosts, RunSteps } from './Sent';
import { Times } from './Times';

const at = '2026-11-20T06:41:07Z';

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
            link: 'http://square.example/#3',
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
  expect(saying('Look at the post where it is')!.getAttribute('href')).toBe('http://square.example/#3');
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
