import { expect, it } from 'vitest';
import type { Setting } from '../../api/client';
import { drawn, pressed, saying, typed } from '../../testing';
import { freeName, shortName } from './Connect';
import { SettingsForm, applies, missing } from './SettingsForm';

const setting = (name: string, type: string, more: Partial<Setting> = {}): Setting =>
  ({ name, label: name[0]!.toUpperCase() + name.slice(1), type, ...more }) as Setting;

const settings = [
  setting('where', 'choice', { options: ['a file', 'at an address'], default: 'a file', required: true }),
  setting('address', 'address', { when: 'where=at an address', required: true }),
  setting('password', 'secret'),
  setting('strict', 'yes/no'),
  setting('words', 'long'),
  setting('rare', 'number', { more: true, default: '7' }),
];

it('asks for a setting only where the others say that it is needed', () => {
  expect(applies(settings[1]!, {}, settings)).toBe(false);
  expect(applies(settings[1]!, { where: 'at an address' }, settings)).toBe(true);
  expect(missing(settings, {}).map((f) => f.name)).toEqual([]);
  expect(missing(settings, { where: 'at an address' }).map((f) => f.name)).toEqual(['address']);
  expect(missing([settings[1]!], {}, { where: 'at an address' })).toHaveLength(1);
});

it('shows the settings that are needed, the rest behind a fold, and secrets that are kept', async () => {
  let now: Record<string, string> = {};
  const form = (values: Record<string, string>) => (
    <SettingsForm fields={settings} values={values} change={(v) => (now = v)} secrets={['password']} />
  );
  const page = await drawn(form({}));
  const labels = () => [...page.at.querySelectorAll('label')].map((l) => l.textContent);
  expect(labels()).toEqual(['Where', 'Password (if wanted)', 'Strict', 'Words (if wanted)']);
  expect(page.at.querySelector('#set-password')!.getAttribute('placeholder')).toBe(
    'set; leave empty to keep it',
  );
  await pressed(saying('More settings (1) ›'));
  expect(labels()).toContain('Rare (if wanted)');
  await page.draw(form({ where: 'at an address' }));
  expect(labels()).toContain('Address');
  await typed(page.at.querySelector('#set-address'), 'https://x.example');
  expect(now).toEqual({ where: 'at an address', address: 'https://x.example' });
  await typed(page.at.querySelector('#set-words'), 'one\ntwo');
  expect(now.words).toBe('one\ntwo');
  await pressed(page.at.querySelector('#set-strict'));
  expect(now.strict).toBe('yes');
  await page.gone();
});

it('makes a short name of what people call something, free and without marks', () => {
  expect(shortName('Käserei Obermatt & Söhne')).toBe('kaserei-obermatt-sohne');
  expect(shortName('  ')).toBe('');
  expect(freeName('tours', new Set(['tours', 'tours-2']))).toBe('tours-3');
  expect(freeName('', new Set(['']))).toBe('');
});
