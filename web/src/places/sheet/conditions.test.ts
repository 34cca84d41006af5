import { describe, expect, it } from 'vitest';
import type { Op } from '../../api/client';
import {
  groupOf,
  partsOf,
  putAt,
  renamed,
  typedValue,
  withPart,
  withTest,
  withoutMessage,
  type Cond,
  type Sheet,
} from './model';
import { testsOf, withCell } from './RouteTable';
import { fits, problemsAt } from './surroundings';

const late: Cond = { field: 'status', is: 'late' };
const much: Cond = { field: 'litres', above: 500 };
const valley: Cond = { field: 'valley', is: 'Upper' };

describe('a condition while it is edited', () => {
  it('a test is added to what there is', () => {
    expect(withTest(undefined, late)).toEqual({ all: [late] });
    expect(withTest({}, late)).toEqual({ all: [late] });
    expect(withTest(late, much)).toEqual({ all: [late, much] });
    expect(withTest({ any: [late] }, much)).toEqual({ any: [late, much] });
    expect(withTest({ formula: 'true' }, much)).toEqual({ all: [{ formula: 'true' }, much] });
  });

  it('a part is replaced, or taken away; an emptied group is none', () => {
    expect(withPart({ all: [late, much] }, 1, valley)).toEqual({ all: [late, valley] });
    expect(withPart({ none: [late, much] }, 0, undefined)).toEqual({ none: [much] });
    expect(withPart({ all: [late] }, 0, undefined)).toBeUndefined();
    expect(withPart(late, 0, much)).toEqual(much);
  });

  it('reads groups whatever stands beside them', () => {
    expect(groupOf({ any: [late] })).toBe('any');
    expect(groupOf(late)).toBeUndefined();
    expect(groupOf({ all: 'no list' })).toBeUndefined();
    expect(partsOf(late)).toEqual([]);
  });

  it('is put at its path, and nothing else is made anew', () => {
    const sheet = { keep: { all: [late, { any: [much] }] }, route: { rows: [{ when: late, tell: [] }] } };
    const next = putAt(sheet, 'keep.all[1].any[0]', valley);
    expect(next.keep.all[1]).toEqual({ any: [valley] });
    expect(next.keep.all[0]).toBe(late);
    expect(next.route).toBe(sheet.route);
    expect(putAt(sheet, 'route.rows[0].name', 'A').route.rows[0]).toEqual({
      when: late,
      tell: [],
      name: 'A',
    });
    expect(putAt({}, 'pace.repeat.key', 'x')).toEqual({
      pace: { repeat: { key: 'x' } },
    });
  });
});

describe('the route table', () => {
  it('shows in cells what has to hold', () => {
    expect(testsOf(undefined)).toEqual([]);
    expect(testsOf({})).toEqual([]);
    expect(testsOf(late)).toEqual([late]);
    expect(testsOf({ all: [late, much] })).toEqual([late, much]);
    expect(testsOf({ any: [late, much] })).toEqual([{ any: [late, much] }]);
  });

  it('a cell is filled, changed, emptied', () => {
    expect(withCell(late, 'litres', much)).toEqual({ all: [late, much] });
    expect(withCell({ all: [late, much] }, 'litres', { field: 'litres', below: 9 })).toEqual({
      all: [late, { field: 'litres', below: 9 }],
    });
    expect(withCell({ all: [late, much] }, 'litres', undefined)).toEqual(late);
    expect(withCell(late, 'status', undefined)).toEqual({ all: [] });
    expect(withCell({ any: [late, much] }, 'valley', valley)).toEqual({
      all: [{ any: [late, much] }, valley],
    });
    expect(withCell({ all: [{ any: [late] }, valley] }, 'valley', undefined)).toEqual({
      all: [{ any: [late] }],
    });
  });
});

describe('messages', () => {
  const sheet = {
    dorfbote: 1,
    name: 'x',
    watch: {},
    messages: { alert: { title: 'a' }, detail: { title: 'd' } },
    route: {
      rows: [{ when: late, tell: [{ to: 's/#a', message: 'alert', reply: 'detail' }] }],
      otherwise: { tell: [{ to: 's/#b', message: 'detail' }] },
    },
  } as Sheet;

  it('one that is called otherwise is called so wherever it is named, and stays in its place', () => {
    const next = renamed(sheet, 'detail', 'more');
    expect(Object.keys(next.messages!)).toEqual(['alert', 'more']);
    expect(next.route.rows![0]!.tell[0]).toEqual({ to: 's/#a', message: 'alert', reply: 'more' });
    expect(next.route.otherwise!.tell[0]!.message).toBe('more');
  });

  it('one that is taken away is told nowhere', () => {
    const next = withoutMessage(sheet, 'detail');
    expect(next.messages).toEqual({ alert: { title: 'a' } });
    expect(JSON.stringify(next.route)).not.toContain('detail');
    expect(next.route.otherwise!.tell[0]!.message).toBe('alert');
  });
});

describe('what is typed', () => {
  it.each([
    ['12', 'number', 12],
    [' 12.5 ', 'number', 12.5],
    ['12', 'text', '12'],
    ['late', 'choice', 'late'],
    ['twelve', 'number', 'twelve'],
  ])('%s for a %s', (text, type, value) => expect(typedValue(text, type)).toEqual(value));
});

it('an operator fits types as the core says', () => {
  const op = (f: string) => ({ name: 'x', label: 'x', fits: f, takes: 'one' }) as unknown as Op;
  expect(['text', 'choice', 'person', 'link'].every((t) => fits(op('text'), t))).toBe(true);
  expect(fits(op('text'), 'number')).toBe(false);
  expect(fits(op('text-list'), 'choices')).toBe(true);
  expect(['number', 'money', 'date', 'moment', 'span'].every((t) => fits(op('order'), t))).toBe(true);
  expect(fits(op('order'), 'text')).toBe(false);
  expect(fits(op('time'), 'span')).toBe(false);
  expect(fits(op('number'), '')).toBe(true);
});

it('problems stand at their place, and at what holds it', () => {
  const at = (path: string) => ({ path, line: 1, column: 1, message: path, warning: false }) as never;
  const list = [
    at('keep'),
    at('keep.all[0]'),
    at('keepsake'),
    at('route.rows[1].when'),
    at('route.rows[10].when'),
  ];
  const paths = (path: string, exact = false) =>
    problemsAt(list, path, exact).map((p) => (p as { path: string }).path);
  expect(paths('keep')).toEqual(['keep', 'keep.all[0]']);
  expect(paths('keep', true)).toEqual(['keep']);
  expect(paths('route.rows[1]')).toEqual(['route.rows[1].when']);
});
