import { useState } from 'react';
import { expect, it } from 'vitest';
import type { ConnectionDetail, ConnectionKind } from '../../api/client';
import { chosen, drawn, labelled, pressed, saying, served, typed, wait, writes } from '../../testing';
import { Connections } from './Connections';
import { MarksInput } from './MarksInput';
import { Telling } from './Telling';

const mail = (more = {}) =>
  ({
    id: 'mail',
    kind: 'mail',
    kind_title: 'Mailbox',
    title: 'Office',
    settings: {},
    sources: [],
    receives: true,
    address: 'mail.example:25',
    sends: { can: ['attach', 'reply'], form: 'mail', listed: false, mute: '', dialect: 'mail' },
    ...more,
  }) as unknown as ConnectionDetail;

const telling = (c: ConnectionDetail, name = 'mail') => (
  <Telling c={c} kind={{ name } as ConnectionKind} secret={undefined} editor />
);

it('says what can be told over a connection, and sends one post to try it', async () => {
  const asked = served(({ body }) => {
    const taken = (body as { place: string }).place.includes('@');
    return {
      body: {
        taken,
        answer: taken ? 'queued' : 'no such user',
        status: taken ? 250 : 550,
        address: 'RCPT',
        sent: 'Subject: x',
        raw: '250 queued',
        link: '',
      },
    };
  });
  const page = await drawn(telling(mail()));
  expect(page.at.textContent).toContain('To any mail address.');
  expect(page.at.textContent).toContain('answer in a thread');
  expect((saying('Send it') as HTMLButtonElement).disabled).toBe(true);
  await typed(labelled('Where the trial goes'), 'me@x.example');
  await pressed(saying('Send it'));
  await wait(() => page.at.textContent.includes('✓ It was taken. queued'));
  expect(writes(asked)[0]).toMatchObject({
    path: '/api/connections/mail/trial',
    body: { place: 'me@x.example' },
  });
  await typed(labelled('Where the trial goes'), 'nobody');
  await pressed(saying('Send it'));
  await wait(() => page.at.textContent.includes('✕ It was not taken. no such user'));
  await page.gone();
});

it('says why nothing can be sent, and gives the addresses of a feed', async () => {
  served(() => ({ body: {} }));
  const mute = await drawn(telling(mail({ sends: { form: 'mail', mute: 'no mail server is set' } })));
  expect(mute.at.textContent).toContain('no mail server is set');
  expect(saying('Send it')).toBeNull();
  await mute.gone();
  const feed = await drawn(telling(mail({ address: 'http://d.example/feed/f/key' }), 'push'));
  expect(feed.at.textContent).toContain('http://d.example/feed/f/key/all.atom');
  expect(feed.at.textContent).toContain('http://d.example/feed/f/key/all.ics');
  await feed.gone();
});

it('lists where posts go, and that nothing has gone there yet', async () => {
  served(({ path }) => ({
    body: {
      items:
        path === '/api/connections'
          ? [
              mail(),
              mail({
                id: 'hook',
                title: 'Shop',
                kind: 'hook',
                sends: undefined,
                address: 'http://d.example/in/hook',
              }),
              mail({
                id: 'sms',
                title: 'Phone',
                settings: { address: 'http://sms.example' },
                sends: { form: 'number', mute: '' },
                last_ok: '2026-11-20T06:41:07Z',
              }),
            ]
          : [],
    },
  }));
  const page = await drawn(<Connections />);
  await wait(() => page.at.textContent.includes('Office'));
  const row = (title: string) =>
    [...page.at.querySelectorAll('tr')].find((r) => r.textContent.includes(title))!.textContent;
  expect(row('Office')).toContain('any mail address');
  expect(row('Office')).toContain('nothing sent yet');
  expect(row('Shop')).toContain('not heard yet');
  expect(row('Phone')).toContain('http://sms.example');
  expect(row('Phone')).toContain('● well');
  await page.gone();
});

it('tries marks out as they are written, and says what is wrong with them', async () => {
  served(({ body }) => {
    const marks = JSON.parse((body as { marks: string }).marks) as { bold: string[]; escape: string };
    return {
      body:
        marks.bold[0] === '('
          ? { problem: 'the marks overlap', place: 'bold', written: '' }
          : {
              problem: '',
              place: '',
              written: `${marks.bold[0]}Late milk${marks.bold[1]} by ${marks.escape}`,
            },
    };
  });
  let now = '';
  function Form() {
    const [value, setValue] = useState('');
    return (
      <MarksInput
        id="marks"
        value={value}
        change={(v) => {
          now = v;
          setValue(v);
        }}
      />
    );
  }
  const page = await drawn(<Form />);
  await typed(labelled('Bold: begins with'), '*');
  expect(JSON.parse(now)).toMatchObject({ bold: ['*', '*'] });
  await wait(() => page.at.textContent.includes('*Late milk* by wide'));
  await chosen('How a sign stands for itself', 'has \\ before it');
  await wait(() => page.at.textContent.includes('by backslash'));
  await typed(labelled('Bold: ends with'), '**');
  expect(JSON.parse(now)).toMatchObject({ bold: ['*', '**'], escape: 'backslash' });
  await typed(labelled('Bold: begins with'), '(');
  await wait(() => page.at.textContent.includes('✕ the marks overlap'));
  await page.gone();
});
