import { expect, it } from 'vitest';
import { chosen, drawn, labelled, pressed, saying, served, typed, wait, writes } from '../../testing';
import { Book } from './Book';

const person = (id: string, name: string, more = {}) => ({
  id,
  name,
  prefers: 'mail',
  addresses: { mail: `${id}@x.example` },
  wrong: {},
  ...more,
});

function book(role = 'editor', source = '') {
  return served(({ method, path, body }) => {
    if (path === '/api/me')
      return { body: { id: 1, name: 'Marit', role, keeps_book: role === 'editor', teams: [] } };
    if (path === '/api/people-book/look' || path === '/api/people-book/import')
      return (body as { text: string }).text.startsWith('id')
        ? {
            body: {
              persons: 2,
              new: 1,
              gone: 0,
              items: [person('bo', 'Bo', { wrong: { phone: 'no number' } })],
            },
          }
        : { status: 422, body: { title: 'no', detail: 'the heading is missing', status: 422 } };
    if (path === '/api/people-book' && method === 'GET')
      return {
        body: {
          items: [person('ann', 'Ann'), person('bo', '', { wrong: { mail: 'no address' } })],
          connections: ['mail', 'phone'],
          source: { source },
        },
      };
    if (path === '/api/people-book/source') return { body: { persons: 12 } };
    if (path === '/api/sources') return { body: { items: [{ source: 'crm/staff', title: 'Staff' }] } };
    if (path.endsWith('/fields'))
      return { body: { items: [{ name: 'full', label: 'Full name', type: 'text' }] } };
    return { body: { items: [] } };
  });
}

it('shows who is reached where and what can be no address, and asks before somebody is taken out', async () => {
  const asked = book();
  const page = await drawn(<Book />);
  await wait(() => saying('Ann'));
  expect(page.at.textContent).toContain('✕ bo@x.example');
  expect(page.at.textContent).toContain('no address');
  await pressed(labelled('Take Ann out of the book'));
  expect(writes(asked)).toHaveLength(0);
  await wait(() => saying('Take them out'));
  await pressed(saying('Take them out'));
  await wait(() => writes(asked).some((a) => a.method === 'DELETE' && a.path === '/api/people-book/ann'));
  await page.gone();
});

it('reads a table in only after it has been looked at, and says what is wrong with it', async () => {
  const asked = book();
  const page = await drawn(<Book />);
  await wait(() => labelled('Persons to read in'));
  await typed(labelled('Persons to read in'), 'nothing');
  await pressed(saying('Look at it'));
  await wait(() => page.at.textContent.includes('the heading is missing'));
  await typed(labelled('Persons to read in'), 'id,name\nann,Ann\nbo,Bo\n');
  await pressed(saying('Look at it'));
  await wait(() => saying('Read in 2 persons'));
  expect(page.at.textContent).toContain('2 persons, 1 of them new');
  expect(page.at.textContent).toContain('△ Bo: phone: no number');
  expect(writes(asked).some((a) => a.path === '/api/people-book/import')).toBe(false);
  await pressed(saying('Read in 2 persons'));
  await wait(() => page.at.textContent.includes('✓ 2 persons read in.'));
  expect(writes(asked).at(-1)!.body).toEqual({ as: 'csv', text: 'id,name\nann,Ann\nbo,Bo\n', whole: false });
  await page.gone();
});

it('has a source be the book', async () => {
  const asked = book();
  const page = await drawn(<Book />);
  await wait(() => labelled('Source that is the people book'));
  await chosen('Source that is the people book', 'Staff');
  await wait(() => labelled('Field of the name'));
  await wait(() => asked.some((a) => a.path.endsWith('/fields')));
  await chosen('Field of the name', 'name: Full name');
  await pressed(saying('Have it be the book'));
  await wait(() => page.at.textContent.includes('12 persons'));
  expect(writes(asked)[0]).toMatchObject({
    method: 'PUT',
    path: '/api/people-book/source',
    body: { source: 'crm/staff', name: 'full' },
  });
  await page.gone();
});

it('is only looked at by viewers, and where a source is the book nobody is entered', async () => {
  book('viewer');
  const page = await drawn(<Book />);
  await wait(() => page.at.textContent.includes('Ann'));
  expect(saying('Enter a person')).toBeNull();
  expect(labelled('Persons to read in')).toBeNull();
  expect(labelled('Take Ann out of the book')).toBeNull();
  await page.gone();
  book('editor', 'crm/staff');
  const other = await drawn(<Book />);
  await wait(() => labelled('Source that is the people book'));
  expect(saying('Enter a person')).toBeNull();
  expect(labelled('Persons to read in')).toBeNull();
  await other.gone();
});
