import { describe, expect, it } from 'vitest';
import type { FieldItem } from '../../api/client';
import { eachNames, formulaNames, groupsOf, itNames, meant, testNames, valueAt } from './names';

const field = (name: string, type: string, fields?: unknown[]) =>
  ({ name, label: name.toUpperCase(), type, fields }) as FieldItem;

const fields = [
  field('id', 'text'),
  field('user', 'object', [field('login', 'text')]),
  field('a b', 'number'),
];
const gathered = [
  { name: 'farm', many: false, fields: [field('name', 'text')] },
  { name: 'jobs', many: true, fields: [field('cost', 'number')] },
];

describe('what can be called by name', () => {
  it('lists nested fields, gathered records, answers and what was before', () => {
    const names = formulaNames(fields, [{ name: 'why', label: 'Why', type: 'text' }], gathered);
    expect(names.map((n) => n.path)).toEqual([
      'record.id',
      'record.user',
      'record.user.login',
      'record["a b"]',
      'farm',
      'farm.name',
      'jobs',
      'answers.why',
      'before.id',
      'before.user',
      'before.user.login',
      'before["a b"]',
      'arrival.at',
      'arrival.by',
      'arrival.kind',
      'now',
    ]);
  });

  it('offers how long it is since a choice was made', () => {
    const status = { ...field('status', 'choice'), options: ['new', 'on "hold"'] };
    expect(
      formulaNames([status], [], [])
        .filter((n) => n.group === 'How long')
        .map((n) => [n.path, n.label]),
    ).toEqual([
      ['words(now - when_became("status", "new"))', 'How long since STATUS became new'],
      [`words(now - when_became("status", "on \\"hold\\""))`, 'How long since STATUS became on "hold"'],
    ]);
  });

  it('calls what a tell goes through by its items, or by its groups', () => {
    const list = { name: 'jobs', many: true, fields: [field('kind', 'choice'), field('cost', 'number')] };
    expect(eachNames('jobs', [list]).names.map((n) => n.path)).toEqual(['it.kind', 'it.cost']);
    const each = eachNames('group(jobs, "kind")', [list]);
    expect(each.names.map((n) => n.path)).toEqual(['it.key', 'len(it.records)', 'it.records']);
    expect(each.group).toEqual({ name: 'it.records', many: true, fields: list.fields });
    expect(groupsOf([list])).toEqual([{ value: 'group(jobs, "kind")', label: 'for each kind of jobs' }]);
    expect(eachNames('gone', [list]).names).toEqual([]);
  });

  it('gives conditions the names that they take', () => {
    expect(testNames(fields, gathered).map((n) => n.field)).toEqual([
      'id',
      'user',
      'user.login',
      'a b',
      'farm',
      'farm.name',
      'jobs',
      'jobs.cost',
    ]);
    expect(itNames(fields, 'Each')[2]!.path).toBe('it.user.login');
  });

  it('finds values of the chosen record, and names by label, path and value', () => {
    const roots = {
      record: { id: 'A-1', user: { login: 'ada' }, 'a b': 7, price: { amount: 5, currency: 'EUR' } },
      jobs: [{ cost: 3 }],
    };
    expect(valueAt('record.user.login', roots)).toBe('ada');
    expect(valueAt('record["a b"]', roots)).toBe('7');
    expect(valueAt('record.price', roots)).toBe('5 EUR');
    expect(valueAt('jobs.cost', roots)).toBe('3');
    expect(valueAt('before.id', roots)).toBe('');
    const login = testNames(fields)[2]!;
    for (const typed of ['login', 'USER', 'user.log', 'ADA']) expect(meant(login, 'ada', typed)).toBe(true);
    expect(meant(login, 'ada', 'jon')).toBe(false);
  });
});
