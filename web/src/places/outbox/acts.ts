import { useMutation, useQueryClient } from '@tanstack/react-query';
import { App } from 'antd';
import { api, answerOf } from '../../api/client';

export type Act = 'again' | 'drop' | 'hold' | 'release';

/** What can be done with a post, by its state. */
export const actsOn: Record<string, Act[]> = {
  waiting: ['hold', 'drop'],
  held: ['release', 'drop'],
  refused: ['again', 'hold', 'drop'],
  'given up': ['again', 'drop'],
  dropped: ['again'],
  expired: ['again'],
};

export const actWords: Record<Act, string> = {
  again: 'Send again',
  drop: 'Drop',
  hold: 'Hold',
  release: 'Let it go on',
};

/** Does something with posts, one or many. */
export function useAct() {
  const cache = useQueryClient();
  const { message } = App.useApp();
  return useMutation({
    mutationFn: ({ act, ids }: { act: Act; ids: number[] }) =>
      answerOf(api.POST('/api/outbox/many', { body: { do: act, ids } })),
    onSuccess: (out) => {
      if (out.passed > 0)
        void message.warning(`${out.passed} of them had moved on meanwhile and were left alone.`);
    },
    onError: (e) => void message.error(e.message),
    onSettled: () =>
      Promise.all(
        ['posts', 'destinations', 'today', 'runs'].map((k) => cache.invalidateQueries({ queryKey: [k] })),
      ),
  });
}
