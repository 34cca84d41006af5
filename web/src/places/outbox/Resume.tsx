import { useAct } from '../../api/act';
import { useQuery } from '@tanstack/react-query';
import { Button } from 'antd';
import { useState } from 'react';
import { api, answerOf, type DestinationItem } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { agoOf } from '../../parts/times';

// So many can be chosen from; with more, all are sent or the outbox below narrows them.
const most = 200;

/** After mending: everything in its order, or only what is chosen. */
export function Resume({ d, close }: { d: DestinationItem; close: () => void }) {
  const [left, setLeft] = useState<Set<number>>(new Set());
  const list = useQuery({
    queryKey: ['posts', 'unsettled', d.name],
    queryFn: async () => {
      const of = (state: 'waiting' | 'refused') =>
        answerOf(api.GET('/api/posts', { params: { query: { destination: d.name, state, limit: most } } }));
      const [refused, waiting] = await Promise.all([of('refused'), of('waiting')]);
      return {
        posts: [...(refused.items ?? []), ...(waiting.items ?? [])].sort((a, b) => a.id - b.id),
        more: refused.next > 0 || waiting.next > 0,
      };
    },
  });
  const resume = useAct(
    (only: number[] | undefined) =>
      answerOf(api.POST('/api/destinations/resume', { body: { name: d.name, only } })),
    ['posts', 'destinations', 'today'],
    close,
  );
  if (list.error) return <Trouble error={list.error} again={() => void list.refetch()} />;
  if (!list.data) return null;
  const { posts, more } = list.data;
  const going = posts.filter((p) => !left.has(p.id));
  return (
    <div className="resume">
      {more ? (
        <p>
          More than {most} wait: they can be sent all, in their order. To leave some out, hold or drop them
          below first.
        </p>
      ) : (
        <ol className="plainlist">
          {posts.map((p) => (
            <li key={p.id}>
              <label>
                <input
                  type="checkbox"
                  checked={!left.has(p.id)}
                  onChange={() =>
                    setLeft((was) => {
                      const next = new Set(was);
                      if (!next.delete(p.id)) next.add(p.id);
                      return next;
                    })
                  }
                />{' '}
                {p.title || p.plain}{' '}
                <span className="muted small">
                  {agoOf(p.created_at)}, {p.workflow}
                </span>
              </label>
            </li>
          ))}
        </ol>
      )}
      <div className="inline">
        <Button
          type="primary"
          loading={resume.isPending}
          disabled={posts.length > 0 && going.length === 0 && !more}
          onClick={() => resume.mutate(left.size > 0 ? going.map((p) => p.id) : undefined)}
        >
          {left.size > 0 ? `Send these ${going.length}, drop the other ${left.size}` : 'Send all in order'}
        </Button>
        <Button onClick={close}>Not yet</Button>
      </div>
    </div>
  );
}
