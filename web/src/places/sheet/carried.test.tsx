import { expect, it } from 'vitest';
import { chosen, drawn, labelled, pressed, saying, typed, wait } from '../../testing';
import { AnswerBand } from './AnswerBand';
import { FollowBand } from './FollowBand';
import { GatherBand } from './GatherBand';
import { MessageMore } from './MessageMore';
import type { Message } from './model';
import { columnsOf, pasted, withTable } from './TablePart';
import { editor, practice } from './testing';
import type { ProofLines } from '../../api/client';

it('carries a table: a name, columns and rows, pasted from a spreadsheet', async () => {
  practice();
  const e = editor({ tables: withTable(undefined) }, ({ sheet, change }) => (
    <GatherBand sheet={sheet} change={change} proof={undefined} />
  ));
  const page = await drawn(e.page);
  await typed(labelled('from in row 1 of rooms'), '#tours');
  await typed(labelled('to in row 1 of rooms'), 'far/tours');
  await pressed(saying('+ row'));
  await typed(labelled('from in row 2 of rooms'), '#lab');
  expect(e.now.sheet.tables).toEqual({ rooms: [{ from: '#tours', to: 'far/tours' }, { from: '#lab' }] });
  await pressed(labelled('Remove row 2 of rooms'));
  await pressed(labelled('Remove the column to of rooms'));
  expect(e.now.sheet.tables).toEqual({ rooms: [{ from: '#tours' }] });
  await pressed(labelled('Remove the table rooms'));
  expect(e.now.sheet.tables).toBeUndefined();
  await page.gone();
});

it('takes pasted cells from a cell on, makes rows as needed, and drops what has no column', () => {
  const rows = [{ from: 'a', to: 'x' }];
  expect(columnsOf(rows)).toEqual(['from', 'to']);
  expect(pasted(rows, ['from', 'to'], 0, 1, 'y\tbeyond\r\nz\t\r\n')).toEqual([
    { from: 'a', to: 'y' },
    { from: '', to: 'z' },
  ]);
  expect(pasted([], ['from', 'to'], 0, 0, 'a\tb')).toEqual([{ from: 'a', to: 'b' }]);
  expect(Object.keys(withTable({ rooms: [] }))).toEqual(['rooms', 'rooms2']);
});

it('answers a caller: a status, a body by names, and what this caller would hear', async () => {
  practice();
  const proof = { answer: { status: 200, body: { allowed: true } } } as unknown as ProofLines;
  const e = editor({ watch: { called: {} } }, ({ sheet, change }) => (
    <AnswerBand sheet={sheet} change={change} proof={sheet.answer && proof} />
  ));
  const page = await drawn(e.page);
  await pressed(saying('+ answer the caller'));
  expect(e.now.sheet.answer).toEqual({ body: { outcome: '${outcome}' } });
  expect(page.at.textContent).toContain('"allowed": true');
  await typed(labelled('Status of the answer'), '202');
  await pressed(labelled('Leave outcome out of the answer'));
  await wait(() => e.now.sheet.answer?.status === 202);
  expect(e.now.sheet.answer).toEqual({ status: 202, body: {} });
  await pressed(labelled('Do not answer the caller'));
  expect(e.now.sheet.answer).toBeUndefined();
  await page.gone();
});

it('edits a body that is no object as JSON, and keeps what cannot be read from the sheet', async () => {
  practice();
  const e = editor({ watch: { called: {} }, answer: { body: ['${outcome}'] } }, ({ sheet, change }) => (
    <AnswerBand sheet={sheet} change={change} proof={undefined} />
  ));
  const page = await drawn(e.page);
  const body = labelled('Body of the answer, as JSON');
  await typed(body, '["${outcome}", 1');
  expect(e.now.sheet.answer).toEqual({ body: ['${outcome}'] });
  expect(page.at.textContent).toContain('✕');
  await typed(body, '["${outcome}", 1]');
  expect(e.now.sheet.answer).toEqual({ body: ['${outcome}', 1] });
  await page.gone();
});

it('asks nothing of a workflow that nobody calls', async () => {
  practice();
  const e = editor({ watch: { source: 'tours/collections' } }, ({ sheet, change }) => (
    <AnswerBand sheet={sheet} change={change} proof={undefined} />
  ));
  const page = await drawn(e.page);
  expect(page.at.textContent).toBe('');
  await page.gone();
});

it('copies a chat message in the place of a text, with what stands around it', async () => {
  practice();
  let message: Message = { title: 'x', body: 'y', facts: [{ label: 'a', value: 'b' }] };
  const set = (next: Partial<Message>) => (message = { ...message, ...next });
  const text = { name: 'text', label: 'Text', type: 'text' };
  const e = editor(
    { messages: { alert: message } },
    () => <MessageMore name="alert" message={message} gathered={[]} set={set} />,
    { fields: [text as never] },
  );
  const page = await drawn(e.page);
  await pressed(saying('+ copy of a chat message'));
  expect(message).toMatchObject({
    like: { of: '${record}', author: true },
    body: undefined,
    facts: undefined,
  });
  await page.gone();
});

it('offers the files that came with the record, as files and as the picture', async () => {
  practice();
  let message: Message = { title: 'x' };
  const set = (next: Partial<Message>) => (message = { ...message, ...next });
  const part = (name: string) => ({ name, label: name, type: 'text' });
  const files = { name: 'files', label: 'Files', type: 'list', fields: [part('name'), part('address')] };
  const e = (fields: unknown[]) =>
    editor(
      { messages: { alert: message } },
      () => <MessageMore name="alert" message={message} gathered={[]} set={set} />,
      { fields: fields as never },
    );
  let page = await drawn(e([part('name')]).page);
  expect(page.at.textContent).not.toContain("the record's files");
  await page.gone();
  page = await drawn(e([files]).page);
  await pressed(saying("+ the record's files"));
  await pressed(saying('+ picture'));
  expect(message).toMatchObject({
    attach: [{ from: '${record.files}' }],
    picture: { from: '${record.files}' },
  });
  await page.gone();
  page = await drawn(e([files]).page);
  expect(page.at.textContent).not.toContain("the record's files");
  await page.gone();
});

it('fills in the fields of the same name at once, of the record or of what is added for each', async () => {
  practice();
  const step = { add: { source: 'tours/farms', set: { id: 'mine' } } };
  const field = (name: string, type: string) => ({ name, label: name, type }) as never;
  const e = editor(
    { watch: { source: 'tours/collections' }, route: {}, follow: [step] },
    ({ sheet, change }) => <FollowBand sheet={sheet} change={change} proof={undefined} />,
    {
      fields: ['id', 'status', 'litres', 'elsewhere'].map((n) => field(n, 'text')),
      gathered: [{ name: 'made', many: true, fields: [field('status', 'text'), field('due', 'moment')] }],
    },
  );
  const page = await drawn(e.page);
  await wait(() => saying('+ 2 fields of the same name') !== null);
  await pressed(saying('+ 2 fields of the same name'));
  const filled = { id: 'mine', status: '${record.status}', litres: '${record.litres}' };
  expect(e.now.sheet.follow![0]!.add!.set, 'what is filled in stays').toEqual(filled);
  expect(page.at.textContent).not.toContain('of the same name');
  for (const name of ['status', 'litres']) await pressed(labelled(`Leave ${name} out of follow[0]`));
  await chosen('How many records step 1 adds', 'one for each of made');
  await pressed(saying('+ 2 fields of the same name'));
  expect(e.now.sheet.follow![0]!.add!.set).toEqual({ id: 'mine', status: '${it.status}', due: '${it.due}' });
  await page.gone();
});

it('adds a record for each of a list, and shows how many that are', async () => {
  practice();
  const step = { add: { source: 'tours/farms', set: { name: '${it.name}' } } };
  const line = { path: 'follow[0]', taken: true, count: 3, set: [{ field: 'name', value: 'A' }] };
  const e = editor(
    { watch: { source: 'tours/collections' }, route: {}, follow: [step] },
    ({ sheet, change }) => (
      <FollowBand sheet={sheet} change={change} proof={{ follow: [line] } as unknown as ProofLines} />
    ),
    { gathered: [{ name: 'made', many: true, fields: [] }] },
  );
  const page = await drawn(e.page);
  expect(page.at.textContent).toContain('3 records; the first:');
  await chosen('How many records step 1 adds', 'one for each of made');
  expect(e.now.sheet.follow![0]!.add).toMatchObject({ each: '${made}' });
  await page.gone();
});
