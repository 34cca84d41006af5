import { useQuery, useQueryClient } from '@tanstack/react-query';
import { expect, it, vi } from 'vitest';
import { act } from 'react';
import { used } from '../testing';
import { useAct } from './act';

it('asks anew for what an act makes stale, whether it worked or not, and shows what went wrong', async () => {
  let asked = 0;
  const told: unknown[] = [];
  const hook = await used(() => {
    useQueryClient();
    useQuery({ queryKey: ['posts', 1], queryFn: () => Promise.resolve((asked += 1)) });
    useQuery({ queryKey: ['today'], queryFn: () => Promise.resolve(0) });
    return useAct(
      (fails: boolean) => (fails ? Promise.reject(new Error('It is paused.')) : Promise.resolve('done')),
      ['posts'],
      (answer, given) => told.push([answer, given]),
    );
  });
  await vi.waitFor(() => expect(asked).toBe(1));
  await act(() => hook.get().mutateAsync(false));
  await vi.waitFor(() => expect(asked).toBe(2));
  expect(told).toEqual([['done', false]]);
  await act(() =>
    hook
      .get()
      .mutateAsync(true)
      .catch(() => undefined),
  );
  await vi.waitFor(() => expect(asked).toBe(3));
  expect(told).toHaveLength(1);
  await vi.waitFor(() => expect(document.body.textContent).toContain('It is paused.'));
  await hook.gone();
});
