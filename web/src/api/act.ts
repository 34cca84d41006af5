import { useMutation, useQueryClient } from '@tanstack/react-query';
import { App } from 'antd';
import { ApiError } from './client';
import { useMe } from './queries';

/**
 * Something that is done on the server. What it makes stale is asked for anew, whether it worked or not; what went wrong is
 * shown. then is called with the answer where it worked. With 'in place', the trouble is shown where it is done, by whoever
 * calls this.
 */
export function useAct<V = void, R = unknown>(
  call: (given: V) => Promise<R>,
  stale: readonly string[],
  then?: (answer: R, given: V) => unknown,
  trouble: 'as a message' | 'in place' = 'as a message',
) {
  const cache = useQueryClient();
  const { message } = App.useApp();
  return useMutation<R, Error, V>({
    mutationFn: call,
    onSuccess: (answer, given) => void then?.(answer, given),
    onError: (e) =>
      trouble === 'as a message' &&
      void message.error([e.message, ...(e instanceof ApiError ? e.details : [])].join(' ')),
    onSettled: () => Promise.all(stale.map((k) => cache.invalidateQueries({ queryKey: [k] }))),
  });
}

/** Whether the person who is signed in may change anything. */
export function useMayEdit(): boolean {
  const me = useMe();
  return me.data !== undefined && me.data !== null && me.data.role !== 'viewer';
}

/** Whether the person who is signed in may change the people book: who is told what by name depends on it. */
export function useMayKeepBook(): boolean {
  const me = useMe().data;
  return me?.role === 'administrator' || me?.keeps_book === true;
}
