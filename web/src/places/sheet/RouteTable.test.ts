import { expect, it } from 'vitest';
import { testsOf, withCell } from './RouteTable';

const a = { field: 'a', is: 1 };
const b = { field: 'b', above: 2 };
const any = { any: [a, b] };

it('cells hold the tests that all have to hold', () => {
  expect(testsOf(undefined)).toEqual([]);
  expect(testsOf(a)).toEqual([a]);
  expect(testsOf({ all: [a, any] })).toEqual([a, any]);
  expect(testsOf(any)).toEqual([any]);
});

it('a cell is filled, changed and emptied', () => {
  expect(withCell(a, 'b', b)).toEqual({ all: [a, b] });
  expect(withCell({ all: [a, b] }, 'a', { field: 'a', is: 3 })).toEqual({ all: [{ field: 'a', is: 3 }, b] });
  expect(withCell({ all: [a, b] }, 'a', undefined)).toEqual(b);
  expect(withCell(any, 'a', a)).toEqual({ all: [any, a] });
  expect(withCell(a, 'a', undefined)).toEqual({ all: [] });
});
