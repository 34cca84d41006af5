import { describe, expect, it } from 'vitest';
import { conditionWords, placeWords, postsWords } from './placeWords';

describe('what the parts of a sheet are called', () => {
  it.each([
    ['watch.when', 'Watch'],
    ['watch.when.any[1]', 'condition 2 of Watch'],
    ['watch.lasts.that', 'what lasts'],
    ['keep', 'Keep'],
    ['keep.all[0]', 'condition 1 of Keep'],
    ['keep.all[1].any[0]', 'condition 2.1 of Keep'],
    ['gather[0]', 'look-up 1'],
    ['gather[2].find.where.all[0]', 'condition 1 of look-up 3'],
    ['route.rows[1].when', 'row 2'],
    ['route.rows[11].when.none[0]', 'condition 1 of row 12'],
    ['route.otherwise', 'Otherwise'],
    ['follow[0].if_fails', 'step 1'],
    ['messages.alert.title', 'message alert'],
    ['pace', 'pace'],
  ])('%s is %s', (path, words) => expect(placeWords(path)).toBe(words));
});

it('a condition that stands alone is that of its place', () => {
  expect(conditionWords('keep')).toBe('the condition of Keep');
  expect(conditionWords('keep.all[0]')).toBe('condition 1 of Keep');
});

it('where the posts of a message would go names each place once', () => {
  const of = (...to: string[]) => postsWords({ posts: to.map((t) => ({ message: 'm', to: t })) }, 'm');
  expect(of('square/#tours')).toBe('Would go to square/#tours.');
  expect(of('square/#tours', 'mail/a@x.example', 'square/#tours')).toBe(
    'Would go to square/#tours (2 posts) and mail/a@x.example.',
  );
  expect(postsWords({ posts: [{ message: 'other', to: 'a' }] }, 'm')).toBe(
    'Would not be sent for this arrival.',
  );
});
