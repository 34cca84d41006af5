import { beforeAll, expect, it } from 'vitest';
import { act, useState } from 'react';
import { browserParts, chosen, drawn, labelled, pressed, saying, typed, wait } from '../../testing';
import { Digits, made, readShape, sortOf, sorts, writeShape, type Node } from './shape';
import ShapeTree from './ShapeTree';

beforeAll(browserParts);

const shapes = [
  '{}',
  '[]',
  '"${post.title}"',
  '{"text": "${post.title}", "n": 12345678901234567890, "f": 1.50, "off": null, "on": true}',
  '{"rows": {"$each": "${post.facts}", "$as": {"k": "${it.label}", "v": "${it.value}"}}, "$$each": [1, [], {}]}',
  '{"card": {"$when": "${post.picture}", "$then": {"src": "${post.picture}"}}}',
];

it('writes what it reads, with every digit', () => {
  for (const text of shapes)
    expect(writeShape(readShape(text)!).replace(/\s/g, '')).toBe(text.replace(/\s/g, ''));
  expect(readShape('{"text": ')).toBeUndefined();
});

it('makes any place anything else, and what is inside stays where it can', () => {
  for (const text of shapes)
    for (const sort of sorts) {
      const next = made(readShape(text)!, sort);
      expect(sortOf(next)).toBe(sort);
      expect(readShape(writeShape(next))).toEqual(next);
    }
  const repeated = made({ a: 'x' }, 'for each');
  expect(repeated).toEqual({ $each: '${post.facts}', $as: { a: 'x' } });
  expect(made(repeated, 'only when')).toEqual({ $when: '${post.link}', $then: { a: 'x' } });
  expect(made(repeated, 'group')).toEqual({ a: 'x' });
  expect(made('x', 'list')).toEqual(['x']);
  expect(made(new Digits('1.50'), 'text')).toBe('1.50');
  expect(made('007', 'number')).toEqual(new Digits('0'));
});

it('is edited as a tree', async () => {
  let now = '{"text":"hello","n":1.50}';
  const tree = () => readShape(now) as Record<string, Node>;
  function Form() {
    const [value, setValue] = useState(now);
    return (
      <ShapeTree
        value={value}
        change={(v) => {
          now = v;
          setValue(v);
        }}
      />
    );
  }
  const page = await drawn(<Form />);
  await chosen('Insert a field: Text of text', 'Title');
  await wait(() => tree().text === 'hello${post.title}');
  await pressed(saying('+ part'));
  await wait(() => labelled('Name of part'));
  const name = labelled('Name of part') as HTMLInputElement;
  await typed(name, '$ref');
  act(() => {
    name.focus();
    name.blur();
  });
  await wait(() => '$$ref' in tree());
  await chosen('What $ref is', 'for each');
  await wait(() => sortOf(tree().$$ref!) === 'for each');
  await chosen('What $ref, in it is', 'group');
  await pressed(saying('+ part of $ref, in it'));
  await wait(() => labelled('Insert a field: Text of $ref, in it.part'));
  await chosen('Insert a field: Text of $ref, in it.part', 'The fact’s label');
  await wait(() => now.includes('${it.label}'));
  await pressed(labelled('Remove text'));
  await wait(() => !('text' in tree()));
  expect(now).toContain('1.50');
  await chosen('What n is', 'list');
  await pressed(saying('+ element of n'));
  await wait(() => (tree().n as Node[]).length === 2);
  await pressed(labelled('Remove n[0]'));
  await wait(() => JSON.stringify(tree().n) === '[""]');
  await page.gone();
});
