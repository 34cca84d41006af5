import { expect, it } from 'vitest';
import { chosen, drawn, labelled, offered, pressed, saying, served, typed, wait } from '../../testing';
import { MessageMore } from './MessageMore';
import { isWritten, overOf } from './reach';
import { Tells } from './Tells';
import { editor } from './testing';
import type { Message, Sheet } from './model';

const reaching = () =>
  served(({ path }) => {
    const items =
      path === '/api/destinations'
        ? [{ name: 'square/#tours', title: '#tours' }]
        : path === '/api/connections'
          ? [
              { id: 'mail', title: 'Mailbox', sends: { form: 'mail', mute: '' } },
              { id: 'old', title: 'Old mailbox', sends: { form: 'mail', mute: 'no mail server' } },
              { id: 'lab', title: 'Lab' },
            ]
          : [];
    return path === '/api/people-book'
      ? { body: { items: [{ id: 'vera', name: 'Vera Kolb', prefers: 'mail' }], connections: ['mail'] } }
      : { body: { items } };
  });

const tells = (first: Partial<Sheet['route']>, more?: Parameters<typeof editor>[2]) =>
  editor(
    { route: first },
    ({ sheet }) => <Tells tell={sheet.route.otherwise?.tell} path="route.otherwise" where="otherwise" />,
    more,
  );

const told = (sheet: Sheet) => sheet.route.otherwise?.tell ?? [];

it('offers places, addresses over what can send, and people; an address may take a field', async () => {
  reaching();
  const e = tells({ otherwise: { tell: [{ to: 'square/#tours', message: 'alert' }] } });
  const page = await drawn(e.page);
  await wait(() => page.at.textContent.includes('#tours'));
  await chosen('Channel 1 of otherwise', 'Mailbox: an address…');
  expect(offered()).toContain('Vera Kolb (mail)');
  expect(offered().join()).not.toContain('Old mailbox');
  expect(told(e.now.sheet)).toEqual([{ to: 'mail/', message: 'alert' }]);
  await chosen('Insert a field into the address of Channel 1 of otherwise', 'Who did it');
  await wait(() => told(e.now.sheet)[0]?.to === 'mail/${arrival.by}');
  await pressed(labelled('More for channel 1 of otherwise'));
  await pressed(saying('+ copy'));
  await wait(() => told(e.now.sheet)[0]?.cc === 'mail/');
  expect(saying('+ copy')).toBeNull();
  await pressed(labelled('No copy of channel 1 of otherwise'));
  expect(told(e.now.sheet)[0]).not.toHaveProperty('cc');
  await pressed(page.at.querySelector('.tellmore input[type="checkbox"]'));
  expect(told(e.now.sheet)[0]!.if_empty).toBe('skip');
  await pressed(labelled('Tell another channel of otherwise'));
  await chosen('Channel 2 of otherwise', 'Vera Kolb');
  expect(told(e.now.sheet)[1]!.to).toBe('person/vera');
  await pressed(labelled('Stop telling channel 1 of otherwise'));
  expect(told(e.now.sheet)).toHaveLength(1);
  await page.gone();
});

it('shows what is seldom said where a sheet is only looked at', async () => {
  reaching();
  const e = tells(
    {
      otherwise: {
        tell: [
          { to: 'mail/${record.id}', message: 'alert', each: '${open}', most: 7, bcc: 'mail/a@b.example' },
        ],
      },
    },
    { readOnly: true },
  );
  const page = await drawn(e.page);
  await wait(() => labelled('How many posts channel 1 of otherwise gets'));
  expect(page.at.textContent).toContain('for each of open');
  expect(page.at.textContent).toContain('hidden copy to');
  expect(labelled('Tell another channel of otherwise')).toBeNull();
  expect(labelled('No hidden copy of channel 1 of otherwise')).toBeNull();
  await page.gone();
});

it('knows an address that is written from a place that is chosen', () => {
  const groups = [
    {
      options: [
        { value: 'square/#tours', label: '' },
        { value: 'mail/', label: '' },
      ],
    },
  ];
  for (const [to, written] of [
    ['square/#tours', false],
    ['square/#gone', true],
    ['mail/', true],
    ['mail/a@b.example', true],
    ['square/${record.channel}', true],
    ['', false],
  ] as const)
    expect([to, isWritten(to, groups)]).toEqual([to, written]);
  expect(overOf('mail/a@b.example')).toBe('mail/');
});

it('adds the parts that not every message has, and takes them away without a trace', async () => {
  reaching();
  const first: Message = { title: 'x' };
  const e = editor({ messages: { alert: first } }, ({ sheet, change }) => (
    <MessageMore
      name="alert"
      message={sheet.messages!.alert!}
      gathered={['open']}
      set={(next) => change({ messages: { alert: { ...sheet.messages!.alert!, ...next } } })}
    />
  ));
  const page = await drawn(e.page);
  const message = () => JSON.parse(JSON.stringify(e.now.sheet.messages!.alert)) as Message;
  await pressed(saying('+ sender'));
  await chosen("Insert a field into: Sender's name", 'Who did it');
  await wait(() => message().sender?.name === '${arrival.by}');
  await pressed(saying('+ link'));
  await pressed(saying('+ link'));
  expect(message().links).toHaveLength(2);
  await pressed(labelled('Remove link 2'));
  await pressed(labelled('Remove link 2'));
  await pressed(saying('+ picture'));
  await chosen('Insert a field into: Address of the picture', 'Who did it');
  await wait(() => message().picture?.from === '${arrival.by}');
  await pressed(saying('+ person'));
  await chosen('Insert a field into: Person 1 whom it speaks to', 'Who did it');
  await wait(() => message().mention?.[0] === '${arrival.by}');
  await pressed(labelled('Do not speak to person 1'));
  await pressed(saying('+ file'));
  expect(message().attach).toEqual([{ name: 'open.csv', table: { of: 'open', columns: ['id'] } }]);
  await typed(labelled('Name of file 1'), 'jobs.csv');
  expect(message().attach![0]!.name).toBe('jobs.csv');
  await pressed(labelled('Remove file 1'));
  await pressed(labelled('Remove the picture'));
  await pressed(labelled('No sender of its own'));
  expect(message()).toEqual({ title: 'x' });
  await page.gone();
});
