import { describe, expect, it } from 'vitest';
import {
  mendedAt,
  putAt,
  renamed,
  startValue,
  typedValue,
  withPart,
  withTest,
  withoutMessage,
  type Sheet,
} from './model';

describe('conditions', () => {
  const test = { field: 'litres', above: 5 };
  it('puts a lone test into a group when a second comes', () => {
    expect(withTest(undefined, test)).toEqual({ all: [test] });
    expect(withTest(test, test)).toEqual({ all: [test, test] });
    expect(withTest({ any: [test] }, test)).toEqual({ any: [test, test] });
  });
  it('replaces and removes parts, and the group with its last', () => {
    const other = { field: 'status', is: 'late' };
    expect(withPart({ none: [test, test] }, 1, other)).toEqual({ none: [test, other] });
    expect(withPart({ all: [test, other] }, 0, undefined)).toEqual({ all: [other] });
    expect(withPart({ all: [test] }, 0, undefined)).toBeUndefined();
  });
});

describe('typed values', () => {
  it.each([
    ['500', 'number', 500],
    ['0.5', 'money', 0.5],
    ['0500', 'number', '0500'],
    ['12.', 'number', '12.'],
    ['1234567890123456789', 'number', '1234567890123456789'],
    ['500', 'text', '500'],
    ['yes', 'yes/no', true],
    ['${record.litres}', 'number', '${record.litres}'],
  ])('%s in a %s field', (text, type, want) => expect(typedValue(text, type)).toEqual(want));

  it('keeps what it can when the operator changes', () => {
    expect(startValue('list', 'late')).toEqual(['late']);
    expect(startValue('value', ['late', 'planned'])).toBe('late');
    expect(startValue('pair', 5)).toEqual([5, 5]);
    expect(startValue('bool', 5)).toBe(true);
    expect(startValue('value', true)).toBe('');
  });
});

it('puts a value at its place on the sheet', () => {
  const sheet = {
    keep: { all: [{ field: 'a', is: 1 }, { any: [{ field: 'b', is: 2 }] }] },
    messages: { m: { title: 'x' } },
  };
  const next = putAt(sheet, 'keep.all[1].any[0]', { field: 'b', is: 3 });
  expect(next.keep.all[1]).toEqual({ any: [{ field: 'b', is: 3 }] });
  expect(next.keep.all[0]).toBe(sheet.keep.all[0]);
  expect(putAt(sheet, 'messages.m.title', 'y').messages.m.title).toBe('y');
  expect(sheet.messages.m.title).toBe('x');
});

describe('messages', () => {
  const sheet: Sheet = {
    dorfbote: 1,
    name: 'T',
    watch: { source: 'a/b' },
    messages: { alert: { title: 'x' }, detail: { title: 'y' } },
    gather: [{ name: 'g', value: 'now', if_fails: { tell: [{ to: 'c/d', message: 'alert' }] } }],
    route: {
      rows: [
        { name: 'R', when: { field: 'a', is: 1 }, tell: [{ to: 'c/d', message: 'alert', reply: 'detail' }] },
      ],
      otherwise: { tell: [{ to: 'c/d', message: 'detail' }] },
    },
  };
  it('are renamed wherever they are named', () => {
    const next = renamed(sheet, 'detail', 'more');
    expect(Object.keys(next.messages!)).toEqual(['alert', 'more']);
    expect(next.route.rows![0]!.tell[0]).toEqual({ to: 'c/d', message: 'alert', reply: 'more' });
    expect(next.route.otherwise!.tell[0]!.message).toBe('more');
    expect(renamed(sheet, 'alert', 'a').gather![0]!.if_fails).toEqual({
      tell: [{ to: 'c/d', message: 'a' }],
    });
  });
  it('leave nothing that names them', () => {
    const next = withoutMessage(sheet, 'detail');
    expect(JSON.stringify(next)).not.toContain('detail');
    expect(next.route.otherwise!.tell[0]!.message).toBe('alert');
    expect(next.route.rows![0]!.tell[0]).toEqual({ to: 'c/d', message: 'alert' });
  });
});

describe('a problem that was found on an earlier sheet', () => {
  const of = (text: string) => ({ m: { body: text, n: { a: 1 } } });
  it.each([
    ['By [driver], ', 'By ${driver}, ', 'By [driver], 5', 'By ${driver}, 5'],
    ['By [driver]', 'By ${driver}', 'So by [driver]', 'So by ${driver}'],
    ['By [driver]', 'By ${driver}', 'By nobody', undefined],
    ['statsu', 'status', 'statsu', 'status'],
    ['aa [x]', 'aa ${x}', 'aa [x] [x]', 'aa ${x} [x]'],
    ['', 'x', 'y', undefined],
  ])('%s -> %s on %s', (was, put, is, want) => {
    const mended = mendedAt(of(is), of(was), 'm.body', put);
    expect(mended?.m.body).toBe(want);
    if (mended) expect(mended.m.n).toEqual({ a: 1 });
  });
  it('is not mended where something else stands there now', () => {
    expect(mendedAt({ k: [{ a: 1 }] }, { k: [{ a: 2 }] }, 'k[0]', { a: 3 })).toBeUndefined();
    expect(mendedAt({ k: [{ a: 1 }] }, { k: [{ a: 1 }] }, 'k[0]', { a: 3 })).toEqual({ k: [{ a: 3 }] });
    expect(mendedAt({ k: 1 }, undefined, 'k', 2)).toEqual({ k: 2 });
  });
});
