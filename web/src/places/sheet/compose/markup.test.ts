import { describe, expect, it } from 'vitest';
import { BOLD, ITALIC, linkParts, linkSource, readLine, writeLine, type Run } from './markup';

/** How a line is shown, with what is bold in < > and what is italic in / /. */
const shown = (line: string) =>
  readLine(line)
    .map((r) => {
      if ('bullet' in r) return '• ';
      const words = 'formula' in r ? `{${r.formula}}` : 'link' in r ? `(${linkParts(r.link).text})` : r.text;
      return (
        (r.format & BOLD ? '<' : '') +
        (r.format & ITALIC ? `/${words}/` : words) +
        (r.format & BOLD ? '>' : '')
      );
    })
    .join('');

describe('the marks of a line', () => {
  it.each([
    ['plain words', 'plain words'],
    ['**${record.litres} litres** in', '<{record.litres}>< litres> in'],
    ['a *b* c', 'a /b/ c'],
    ['***both***', '</both/>'],
    ['**bold *and italic* here**', '<bold ></and italic/>< here>'],
    ['5 * 3 * 2', '5 * 3 * 2'],
    ['** not bold **', '** not bold **'],
    ['**open', '**open'],
    ['snake_case_name', 'snake_case_name'],
    ['__under__', '__under__'],
    ['`**code**` **x**', '`**code**` <x>'],
    ['\\*not\\* **x**', '\\*not\\* <x>'],
    ['[Open ${record.id}](${record.link}) now', '(Open ${record.id}) now'],
    ['**[Open](https://x.example/${record.id})**', '<(Open)>'],
    ['[no address]', '[no address]'],
    ['- an item', '• an item'],
    ['- **${x}**', '• <{x}>'],
    ['1. first', '1. first'],
    ['a**b**c', 'a<b>c'],
    ['', ''],
  ])('%s', (line, want) => {
    expect(shown(line)).toBe(want);
    expect(writeLine(readLine(line))).toBe(line);
  });

  it('writes every line as it was read, whatever it is', () => {
    let seed = 7;
    const pick = (below: number) => {
      seed = (Math.imul(seed, 1664525) + 1013904223) >>> 0;
      return Math.floor((seed / 2 ** 32) * below);
    };
    const parts = [
      '*',
      '**',
      '***',
      'a',
      ' ',
      '_',
      '`',
      '[',
      '](',
      ')',
      '${x}',
      '${f("*")}',
      '\\',
      '- ',
      '"',
      'ß',
      'https://x.example',
    ];
    for (let round = 0; round < 20_000; round++) {
      const line = Array.from({ length: pick(9) }, () => parts[pick(parts.length)]).join('');
      expect(writeLine(readLine(line))).toBe(line);
    }
  });

  it('reads what it has written as it was meant', () => {
    let seed = 11;
    const pick = (below: number) => {
      seed = (Math.imul(seed, 1664525) + 1013904223) >>> 0;
      return Math.floor((seed / 2 ** 32) * below);
    };
    const words = ['milk', 'late milk', ' and ', 'ß', '12'];
    for (let round = 0; round < 5000; round++) {
      const runs: Run[] = [];
      for (let n = pick(5); n >= 0; n--) {
        const format = pick(4);
        const last = runs.at(-1);
        if (last && 'format' in last && last.format === format) continue;
        // Bold that touches italics cannot be written so that it is read as that; it stands apart.
        if (last && 'format' in last && last.format && format) runs.push({ text: ' ', format: 0 });
        runs.push(
          pick(3) === 0 ? { formula: 'record.id', format } : { text: words[pick(words.length)]!, format },
        );
      }
      const flat = (list: Run[]) =>
        list.flatMap((r) =>
          'text' in r
            ? [...r.text].map((c) => (c === ' ' ? c : `${c}${r.format}`))
            : 'formula' in r
              ? [`{}${r.format}`]
              : [],
        );
      expect(flat(readLine(writeLine(runs))), writeLine(runs)).toEqual(flat(runs));
    }
  });

  it('keeps links whole', () => {
    expect(linkSource({ text: 'a ]b', to: 'https://x.example/ y)' })).toBe('[a b](https://x.example/y)');
    expect(linkParts('[Open ${record["a]("]}](${record.link})')).toEqual({
      text: 'Open ${record["a]("]}',
      to: '${record.link}',
    });
  });
});
