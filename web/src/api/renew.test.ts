import { QueryClient, QueryObserver } from '@tanstack/react-query';
import { expect, test } from 'vitest';
import { renew } from './renew';

test('an answer that was on its way when something changed is asked for again', async () => {
  const cache = new QueryClient();
  let held = 'old';
  let send: () => void = () => undefined;
  let asked = 0;
  const watch = new QueryObserver(cache, {
    queryKey: ['posts', '#board'],
    queryFn: () => {
      const made = held; // the server made its answer before the change
      return ++asked === 1 ? new Promise<string>((done) => (send = () => done(made))) : made;
    },
  });
  const stop = watch.subscribe(() => undefined);
  held = 'new';
  renew(cache, ['posts']);
  send();
  await expect.poll(() => watch.getCurrentResult().data).toBe('new');
  expect(asked).toBe(2);
  renew(cache, ['posts']);
  await expect.poll(() => asked).toBe(3);
  stop();
});
