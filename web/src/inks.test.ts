import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect, test } from 'vitest';
import { inks } from './inks';

const here = import.meta.dirname;
const sheets = readdirSync(here, { recursive: true, encoding: 'utf8' }).filter((f) => f.endsWith('.css'));

test('the components take the colours of the pages', () => {
  const css = readFileSync(join(here, 'styles/colours.css'), 'utf8');
  for (const [name, value] of Object.entries(inks)) expect(css).toContain(`--${name}: ${value};`);
});

test('every colour has a name', () => {
  for (const sheet of sheets.filter((f) => !f.endsWith('colours.css'))) {
    const css = readFileSync(join(here, sheet), 'utf8');
    expect(css.match(/#[0-9a-f]{3,8}\b|\b(rgb|hsl)a?\(/gi), sheet).toBeNull();
  }
});

test('every name that is used is given', () => {
  const all = sheets.map((f) => readFileSync(join(here, f), 'utf8')).join('\n');
  const given = new Set(all.match(/--[\w-]+(?=:)/g));
  for (const used of all.match(/(?<=var\()--[\w-]+/g) ?? [])
    expect(given.has(used) || used.startsWith('--ant'), used).toBe(true);
});
