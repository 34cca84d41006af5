import { useState } from 'react';
import { expect, it, vi } from 'vitest';
import type { ConnectionDetail, ConnectionKind } from '../../api/client';
import { RecordSearch } from '../../parts/RecordSearch';
import { chosen, drawn, labelled, pressed, saying, served, typed, type Asked, wait } from '../../testing';
import { AddSource } from './AddSource';
import { Connect } from './Connect';
import { ShapeInput } from './ShapeInput';
import { Steps } from './Steps';

const writes = (asked: Asked[], path: string) => asked.filter((a) => a.method === 'POST' && a.path === path);

const table: ConnectionKind = {
  name: 'table',
  title: 'Table',
  does: 'Reads a table.',
  settings: [{ name: 'address', label: 'Address', type: 'address', required: true }],
  source: [{ name: 'file', label: 'File', type: 'text' }],
  proves: true,
} as never;

it('connects something: says what is missing, proves it first, and takes a free name', async () => {
  let fails = true;
  const asked = served((a) => {
    if (a.path === '/api/connection-kinds') return { body: { items: [table] } };
    if (a.path === '/api/connections' && a.method === 'GET') return { body: { items: [{ id: 'cellar' }] } };
    if (a.path === '/api/connections/prove')
      return {
        body: {
          ok: !fails,
          steps: [
            {
              ok: !fails,
              tried: 'opening the address',
              said: fails ? 'no answer' : 'a table',
              do: fails ? 'check it' : '',
              who: '',
            },
          ],
        },
      };
    if (a.path === '/api/connections') return { body: { id: 'cellar-2' } };
    return { body: { items: [] } };
  });
  const page = await drawn(<Connect />);
  await wait(() => saying('Table'));
  await pressed(saying('Table'));
  await wait(() => page.at.querySelector('#connect-title'));
  await typed(page.at.querySelector('#connect-title'), 'Cellar');
  expect(page.at.querySelector('#connect-id')!.getAttribute('placeholder')).toBe('cellar-2');
  expect(page.at.textContent).toContain('Still missing: address');
  expect(saying('Connect')).toHaveProperty('disabled', true);
  await typed(page.at.querySelector('#set-address'), 'https://x.example/t.csv');
  await pressed(saying('Prove it'));
  await wait(() => page.at.textContent.includes('check it'));
  fails = false;
  await pressed(saying('Prove it'));
  await wait(() => page.at.textContent.includes('a table'));
  await typed(page.at.querySelector('#connect-id'), 'cellar');
  expect(page.at.textContent).toContain('✕ this name is taken');
  expect(saying('Connect')).toHaveProperty('disabled', true);
  await typed(page.at.querySelector('#connect-id'), '');
  await pressed(saying('Connect'));
  await wait(() => writes(asked, '/api/connections').length === 1);
  expect(writes(asked, '/api/connections')[0]!.body).toMatchObject({
    id: 'cellar-2',
    kind: 'table',
    title: 'Cellar',
    settings: { address: 'https://x.example/t.csv' },
  });
  await page.gone();
});

const c = {
  id: 'cellar',
  kind: 'table',
  title: 'Cellar',
  settings: {},
  reads: [],
} as unknown as ConnectionDetail;

it('takes the only thing there is, looks at it, and begins with what names a record', async () => {
  const seen = {
    rows: 2,
    keyless: 2,
    keys: ['number'],
    fields: [{ name: 'number', label: 'Number', type: 'number' }],
    problem: '',
    records: [{ key: 'record 1', record: { number: 7 }, fields: [] }],
    beginning: { arrivals: 0 },
  };
  const asked = served((a) => {
    if (a.path.endsWith('/browse'))
      return { body: { items: [{ kind: 'tanks', title: 'Tanks', settings: { file: 't.csv' } }] } };
    if (a.path.endsWith('/preview'))
      return { body: (a.body as { key_field?: string }).key_field ? { ...seen, keyless: 0 } : seen };
    return { body: { items: [], source: 'cellar/tanks' } };
  });
  let done = 0;
  const page = await drawn(<AddSource c={c} kind={table} done={() => (done += 1)} />);
  await wait(() => writes(asked, '/api/connections/cellar/sources/preview').length === 2);
  const looks = writes(asked, '/api/connections/cellar/sources/preview').map(
    (a) => a.body as { kind: string; key_field?: string },
  );
  expect(looks.map((l) => [l.kind, l.key_field])).toEqual([
    ['tanks', undefined],
    ['tanks', 'number'],
  ]);
  const begins = (able: boolean) =>
    vi.waitFor(() => expect(saying('Begin to read it')).toHaveProperty('disabled', !able));
  await begins(true);
  // What was seen by one key says nothing of another.
  await typed(page.at.querySelector('#add-key'), 'place');
  await begins(false);
  expect(page.at.textContent).toContain('Look at its records first.');
  await typed(page.at.querySelector('#add-key'), 'number');
  await begins(true);
  await pressed(saying('Begin to read it'));
  await wait(() => done === 1);
  expect(writes(asked, '/api/connections/cellar/sources')[0]!.body).toMatchObject({
    kind: 'tanks',
    key_field: 'number',
    settings: { file: 't.csv' },
    begin: { how: 'now' },
  });
  await page.gone();
});

it('says of each step of a proof what was tried, what came back, what to do and who can', async () => {
  const page = await drawn(
    <Steps
      steps={[
        { ok: true, tried: 'signing in', said: 'signed in as A' },
        { ok: false, tried: 'reading', said: '403 Forbidden', do: 'let it read', who: 'the owner' },
      ]}
    />,
  );
  const text = page.at.textContent;
  for (const part of ['signing in', 'signed in as A', '403 Forbidden', 'let it read', 'the owner'])
    expect(text).toContain(part);
  await page.gone();
});

it('finds records by a value, says in which field it stands, and shows one whole', async () => {
  const record = {
    key: 'C-1',
    title: 'Sonnleiten',
    at: new Date().toISOString(),
    record: { id: 'C-1', litres: 5 },
    fields: [{ field: 'litres', label: 'Litres', type: 'number', value: '5' }],
  };
  served((a) => {
    if (a.path.endsWith('/records'))
      return { body: { items: a.query.get('q') === 'nowhere' ? [] : [record], next: 0 } };
    if (a.path.endsWith('/find'))
      return {
        body: { items: [{ field: 'farm', label: 'Farm', value: 'Sonnleiten', matches: 3, key: 'C-1' }] },
      };
    return { body: { items: [] } };
  });
  let picked = '';
  const page = await drawn(<RecordSearch source="tours/collections" pick={(r) => (picked = r.key)} />);
  await wait(() => page.at.textContent.includes('Sonnleiten'));
  await typed(labelled('Search the records'), 'Sonn');
  await wait(() => page.at.textContent.includes('It stands in'));
  expect(page.at.textContent).toContain('(3 records, such as Sonnleiten)');
  await pressed(page.at.querySelector('[aria-expanded="false"]'));
  expect(page.at.querySelector('tbody')!.textContent).toContain('Litres');
  await pressed(
    [...page.at.querySelectorAll('.ant-segmented-item')]
      .find((s) => s.textContent === 'JSON')!
      .querySelector('input'),
  );
  expect(page.at.querySelector('pre')!.textContent).toContain('"litres": 5');
  await pressed(saying('Prove on it'));
  expect(picked).toBe('C-1');
  await typed(labelled('Search the records'), 'nowhere');
  await wait(() => page.at.textContent.includes('No record has this in it.'));
  await page.gone();
});

it('makes a shape of an example, and corrects what a text stands for by choosing', async () => {
  const asked = served((a) => {
    const { example, chosen: roles } = a.body as { example: string; chosen: Record<string, string> };
    if (!example.startsWith('{'))
      return { body: { shape: '', leaves: [], roles: [], problem: 'this is no JSON' } };
    const is = roles.titel ?? 'as it is';
    return {
      body: {
        shape: is === 'title' ? '{"titel":"${post.title}"}' : '{"titel":"Hallo"}',
        leaves: [{ path: 'titel', text: 'Hallo', is }],
        roles: ['as it is', 'title', 'text'],
      },
    };
  });
  let now = '';
  function Form() {
    const [value, setValue] = useState('');
    return (
      <ShapeInput
        id="body"
        value={value}
        change={(v) => {
          now = v;
          setValue(v);
        }}
      />
    );
  }
  const page = await drawn(<Form />);
  await typed(labelled('An example of the body'), 'hello');
  await wait(() => page.at.textContent.includes('✕ this is no JSON'));
  expect(now).toBe('');
  await typed(labelled('An example of the body'), '{"titel":"Hallo"}');
  await wait(() => labelled('What titel stands for'));
  expect(JSON.parse(now)).toEqual({ titel: 'Hallo' });
  await chosen('What titel stands for', 'title');
  await wait(() => now.includes('${post.title}'));
  expect(asked.at(-1)!.body).toEqual({
    always: [],
    example: '{"titel":"Hallo"}',
    chosen: { titel: 'title' },
  });
  await wait(() => labelled('Text of titel')?.querySelector('[data-formula="post.title"]'));
  await pressed(saying('Show it as text'));
  expect(page.at.querySelector<HTMLTextAreaElement>('#body')!.value).toContain('${post.title}');
  await pressed(saying('Write it yourself'));
  expect(labelled('An example of the body')).toBeNull();
  await page.gone();
});
