import { expect, it } from 'vitest';
import { answering, drawn, labelled, pressed, saying, typed, wait, writes } from '../../testing';
import { StartDialog } from './StartDialog';
import { Workflows } from './Workflows';

const me = (role: string) => ({ id: 1, name: 'Marit', role, teams: [] });

it('starts a workflow once every question that must be is answered', async () => {
  const asked = answering(
    {
      '/api/workflows/3/start': {
        form: 'start',
        source: '',
        confirm: 'Tell the board?',
        ask: [
          { name: 'why', label: 'Why', type: 'text', required: true },
          { name: 'n', label: 'How many', type: 'whole number', help: 'If known.' },
        ],
      },
    },
    (a) =>
      a.method === 'POST'
        ? {
            status: 422,
            body: { detail: 'the answers are not right', errors: [{ message: 'n: many is no number' }] },
          }
        : undefined,
  );
  let closed = 0;
  const page = await drawn(<StartDialog id={3} name="Ask" close={() => (closed += 1)} />);
  await wait(() => document.querySelector('#answer-why'));
  expect(document.body.textContent).toContain('Tell the board?');
  expect(saying('Yes, start it')).toHaveProperty('disabled', true);
  await typed(document.querySelector('#answer-why'), 'late');
  await typed(document.querySelector('#answer-n'), 'many');
  await pressed(saying('Yes, start it'));
  await wait(() => document.body.textContent.includes('n: many is no number'));
  expect(writes(asked)[0]!.body).toEqual({ records: [], answers: { why: 'late', n: 'many' } });
  expect(closed).toBe(0);
  await page.gone();
});

it('lists workflows with what they watch, and switches them', async () => {
  const w = {
    id: 1,
    name: 'Late',
    on: false,
    source: 'tours/collections',
    watches: 'status becomes late',
    tells: ['square/#tours'],
    days: [],
    version: 2,
    problems: 1,
    changed: true,
    colour: 'green',
    form: '',
  };
  const asked = answering({
    '/api/me': me('editor'),
    '/api/workflows': { items: [w, { ...w, id: 2, name: 'Other', on: true, problems: 0 }] },
  });
  const page = await drawn(<Workflows />);
  await wait(() => labelled('Late is off'));
  expect(page.at.textContent).toContain('1 on, 1 off');
  expect(page.at.textContent).toContain('draft has 1 error');
  expect(page.at.textContent).toContain('draft differs');
  await pressed(labelled('Other is on'));
  await wait(() => writes(asked).some((a) => a.path === '/api/workflows/2/off'));
  await page.gone();
});
