import { expect, it, vi } from 'vitest';
import { drawn, pressed, served, typed } from '../../testing';
import { SignIn } from './SignIn';

it('says what is missing, what the server says, and signs in', async () => {
  const asked = served((a) =>
    (a.body as { password: string }).password === 'right'
      ? { body: { id: 1, name: 'Marit', role: 'editor' } }
      : { status: 401, body: { detail: 'the address or the password is not right' } },
  );
  const page = await drawn(<SignIn />);
  const find = (s: string) => page.at.querySelector(s);
  const says = () => find('[role=alert]')?.textContent;
  await pressed(find('button'));
  expect(says()).toBe('Your mail address is missing.');
  await typed(find('#email'), ' marit@x.example ');
  await pressed(find('button'));
  expect(says()).toBe('Your password is missing.');
  expect(asked).toHaveLength(0);
  await typed(find('#password'), 'wrong');
  await pressed(find('button'));
  await vi.waitFor(() => expect(says()).toContain('not right'));
  expect(find('#password')?.getAttribute('type')).toBe('password');
  await pressed(find('[type=checkbox]'));
  expect(find('#password')?.getAttribute('type')).toBe('text');
  await typed(find('#password'), 'right');
  await pressed(find('button'));
  await vi.waitFor(() => expect(says()).toBe(''));
  expect(asked.at(-1)).toMatchObject({
    method: 'POST',
    path: '/api/sign-in',
    body: { email: 'marit@x.example', password: 'right' },
  });
  await page.gone();
});
