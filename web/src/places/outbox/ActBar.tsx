import { App, Button } from 'antd';
import type { PostItem } from '../../api/client';
import { actsOn, actWords, useActOnPosts, type Act } from './acts';
import { counted } from '../../parts/counted';

/** What can be done with the posts that are chosen. */
export function ActBar({ chosen, clear }: { chosen: PostItem[]; clear: () => void }) {
  const act = useActOnPosts();
  const { modal } = App.useApp();
  if (chosen.length === 0) return null;
  const able = (a: Act) => chosen.filter((p) => actsOn[p.state]?.includes(a));
  const run = (a: Act) =>
    act.mutateAsync({ act: a, ids: able(a).map((p) => p.id) }).then(clear, () => undefined);
  const drop = () =>
    modal.confirm({
      title: `Drop ${counted(able('drop').length, 'post')}?`,
      content: 'Nobody will be told of them. They stay in the outbox and can be sent again.',
      okText: 'Drop them',
      onOk: () => run('drop'),
    });
  return (
    <div className="actbar" role="group" aria-label="The chosen posts">
      <b>{chosen.length} chosen</b>
      {(['again', 'release', 'hold', 'drop'] as Act[]).map((a) => {
        const n = able(a).length;
        return (
          n > 0 && (
            <Button
              key={a}
              size="small"
              loading={act.isPending}
              onClick={() => (a === 'drop' ? void drop() : void run(a))}
            >
              {actWords[a]} {n < chosen.length && `(${n})`}
            </Button>
          )
        );
      })}
      <Button size="small" type="text" onClick={clear}>
        Choose none
      </Button>
    </div>
  );
}
