import { useAct } from '../../api/act';
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

/** The states of a post that can be made anew from the version that is on. */
export const anewIn = ['refused', 'given up', 'dropped', 'expired', 'held'];

/** Makes a post anew from the version of its workflow that is on, and sends it. */
export function useMakeAnew() {
  return useAct(
    (id: number) => answerOf(api.POST('/api/posts/{id}/anew', { params: { path: { id } } })),
    ['posts', 'destinations', 'today', 'runs'],
  );
}

/** Does something with posts, one or many. */
export function useActOnPosts() {
  const { message } = App.useApp();
  return useAct(
    ({ act, ids }: { act: Act; ids: number[] }) =>
      answerOf(api.POST('/api/outbox/many', { body: { do: act, ids } })),
    ['posts', 'destinations', 'today', 'runs'],
    (out) => {
      if (out.passed > 0)
        void message.warning(`${out.passed} of them had moved on meanwhile and were left alone.`);
    },
  );
}
