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
import { People } from './People';
import { Welcome } from './Welcome';
import { You } from './You';

const me = (role: string) => ({ id: 1, name: 'Marit', role, teams: [] });
const at = '2026-11-20T06:41:07Z';

const person = (id: number, name: string, more = {}) => ({
  id,
  name,
  email: `${id}@x.example`,
  role: 'editor',
  teams: [],
  gone: false,
  seen: null,
  ...more,
});

it('lets administrators change roles and let people go, after asking; others look', async () => {
  let role = 'administrator';
  const asked = answering(
    {
      '/api/people': {
        items: [
          person(1, 'Marit', { role: 'administrator' }),
          person(2, 'Jonas'),
          person(3, 'Vera', { gone: true }),
        ],
      },
      '/api/teams': { items: [{ id: 9, name: 'Tours' }] },
    },
    (a) => (a.path === '/api/me' ? { body: me(role) } : undefined),
  );
  const page = await drawn(<People />);
  await wait(() => labelled('Role of Jonas'));
  expect([...page.at.querySelectorAll('button')].filter((b) => b.textContent === 'Let go')).toHaveLength(1);
  await chosen('Role of Jonas', 'viewer');
  await wait(() => writes(asked).length === 1);
  expect(writes(asked)[0]).toMatchObject({
    method: 'PATCH',
    path: '/api/people/2',
    body: { role: 'viewer' },
  });
  await pressed(saying('Let go'));
  await wait(() => saying('Let them go'));
  await pressed(saying('Let them go'));
  await wait(() => writes(asked).length === 2);
  expect(writes(asked)[1]!.body).toEqual({ gone: true });
  await pressed(saying('Take back'));
  await wait(() => writes(asked).length === 3);
  await page.gone();
  role = 'viewer';
  const looks = await drawn(<People />);
  await wait(() => looks.at.textContent.includes('Jonas'));
  expect(labelled('Role of Jonas')).toBeNull();
  expect(labelled('Mail address to invite')).toBeNull();
  await looks.gone();
});

it('ends other sessions, and changes a password that is long enough', async () => {
  const asked = answering({
    '/api/me': { id: 1, name: 'Ona', email: 'ona@x.example', role: 'editor' },
    '/api/sign-ins': {
      items: [
        { id: 1, at, seen_at: at, address: '127.0.0.1', program: 'Browser', current: true },
        { id: 2, at, seen_at: at, address: '10.0.0.7', program: 'Other', current: false },
      ],
    },
  });
  const page = await drawn(<You />);
  await wait(() => saying('End'));
  expect(page.at.textContent).toContain('● this one');
  await pressed(saying('End'));
  await wait(() => writes(asked).some((a) => a.path === '/api/sign-ins/2/end'));
  await pressed(saying('End all but this one'));
  await wait(() => writes(asked).some((a) => a.path === '/api/sign-ins/end-others'));
  await typed(page.at.querySelector('#current'), 'old one');
  await typed(page.at.querySelector('#next'), 'short');
  await pressed(saying('Change the password'));
  await wait(() => page.at.textContent.includes('At least 10 characters'));
  expect(writes(asked).some((a) => a.path === '/api/me/password')).toBe(false);
  await typed(page.at.querySelector('#next'), 'long enough now');
  await pressed(saying('Change the password'));
  await wait(() => writes(asked).some((a) => a.path === '/api/me/password'));
  expect(writes(asked).at(-1)!.body).toEqual({ current: 'old one', new: 'long enough now' });
  await page.gone();
});

it('asks the first administrator for a mail address, and others not', async () => {
  let email = '';
  const asked = served((a) =>
    a.method === 'POST'
      ? { status: 422, body: { detail: 'this is no address' } }
      : { body: { email, role: 'administrator', invited_by: 'Marit' } },
  );
  const page = await drawn(<Welcome token="t" />);
  await wait(() => page.at.textContent.includes('You become the first administrator'));
  await typed(page.at.querySelector('#name'), 'Ona');
  await typed(page.at.querySelector('#email'), 'ona@x.example');
  await typed(page.at.querySelector('#password'), 'long enough');
  await pressed(saying('Begin'));
  await wait(() => page.at.textContent.includes('this is no address'));
  expect(writes(asked)[0]!.body).toEqual({ name: 'Ona', email: 'ona@x.example', password: 'long enough' });
  await page.gone();
  email = 'vera@x.example';
  const invited = await drawn(<Welcome token="t" />);
  await wait(() => invited.at.textContent.includes('Marit has invited vera@x.example as administrator.'));
  expect(invited.at.querySelector('#email')).toBeNull();
  await invited.gone();
});
