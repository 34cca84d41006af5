import { describe, expect, it } from 'vitest';
import { chipLabel, emptyOf, formatsOf, piecesOf, toldAs, withEmpty } from './template';

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
    expect(formatsOf(fields[0]!, fields).map((f) => f.formula)).toContain('number(record.litres, 2)');
    expect(emptyOf('or(record.litres, "no \\"milk\\"")')).toEqual({
      inner: 'record.litres',
      text: 'no "milk"',
    });
    expect(emptyOf(withEmpty('record.litres', 'none'))).toEqual({ inner: 'record.litres', text: 'none' });
    expect(emptyOf('record.litres')).toEqual({ inner: 'record.litres', text: '' });
    expect(withEmpty('x', '')).toBe('x');
  });
  it('gives an amount the currency of its own record', () => {
    const text = (name: string) => ({ name, label: name, type: 'text' });
    const amount = { name: 'order.total', label: 'Total', type: 'money', currency: 'CHF' };
    const money = (...others: { name: string; label: string; type: string }[]) =>
      formatsOf(amount, [text('currency'), ...others, amount])[1]!.formula;
    expect(money()).toBe('money(record.order.total, "CHF")');
    expect(money(text('order.currency'))).toBe('money(record.order.total, record.order.currency)');
    expect(formatsOf({ ...amount, currency: undefined }, [amount]).map((f) => f.words)).not.toContain(
      'with its currency',
    );
    expect(formatsOf({ ...amount, currency: undefined }, [text('order.total_currency')])[1]!.formula).toBe(
      'money(record.order.total, record.order.total_currency)',
    );
    expect(toldAs('record.order.total', [text('order.currency'), amount])).toBe(
      'money(record.order.total, record.order.currency)',
    );
    expect(toldAs('record.order.total', [{ ...amount, currency: undefined }])).toBe('record.order.total');
    expect(toldAs('owner.name', [amount])).toBe('owner.name');
    const all = [text('order.currency'), amount];
    expect(chipLabel('money(record.order.total, record.order.currency)', all)).toBe(
      'Total with its currency',
    );
    expect(chipLabel('money(record.order.total, "EUR")', all)).toBe('money(Total, "EUR")');
  });
});
