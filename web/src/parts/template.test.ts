import { describe, expect, it } from 'vitest';
import { chipLabel, emptyOf, formatsOf, piecesOf, withEmpty } from './template';

const fields = [
  { name: 'litres', label: 'Litres', type: 'number' },
  { name: 'farm.name', label: 'Farm', type: 'text' },
  { name: 'farm', label: 'Farm number', type: 'number' },
];

describe('a text with formulas', () => {
  it.each([
    ['', []],
    ['plain', [{ text: 'plain' }]],
    ['${record.id}: ${a}', [{ formula: 'record.id' }, { text: ': ' }, { formula: 'a' }]],
    [
      '${bullets(open, "${it.id}: ${it.fault}")}!',
      [{ formula: 'bullets(open, "${it.id}: ${it.fault}")' }, { text: '!' }],
    ],
    ['${ {"a": 1}.a } x', [{ formula: ' {"a": 1}.a ' }, { text: ' x' }]],
    ['${"}\\""}', [{ formula: '"}\\""' }]],
    ['open ${record.', [{ text: 'open ${record.' }]],
    ['a $ { b }', [{ text: 'a $ { b }' }]],
  ])('%s', (template, want) => {
    expect(piecesOf(template)).toEqual(want);
    expect(
      piecesOf(template)
        .map((p) => ('text' in p ? p.text : '${' + p.formula + '}'))
        .join(''),
    ).toBe(template);
  });

  it('calls chips by the labels of their fields', () => {
    expect(chipLabel('record.litres', fields)).toBe('Litres');
    expect(chipLabel('number(record.litres, 2)', fields)).toBe('number(Litres, 2)');
    expect(chipLabel('record.farm.name', fields)).toBe('Farm');
    expect(chipLabel('len(open)', fields)).toBe('len(open)');
  });

  it('formats, and says something for empty values', () => {
    expect(formatsOf(fields[0]!).map((f) => f.formula)).toContain('number(record.litres, 2)');
    expect(emptyOf('or(record.litres, "no \\"milk\\"")')).toEqual({
      inner: 'record.litres',
      text: 'no "milk"',
    });
    expect(emptyOf(withEmpty('record.litres', 'none'))).toEqual({ inner: 'record.litres', text: 'none' });
    expect(emptyOf('record.litres')).toEqual({ inner: 'record.litres', text: '' });
    expect(withEmpty('x', '')).toBe('x');
  });
});
