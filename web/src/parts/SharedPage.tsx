import { Button, Popconfirm } from 'antd';
import { useAct } from '../api/act';
import { api, answerOf, type Schemas } from '../api/client';
import { counted } from './counted';
import { fullOf } from './times';

/** A page that a post shares with people without an account: how often it was opened, and until when it is shown. */
export function SharedPage({ share: s, editor }: { share: Schemas['ShareItem']; editor: boolean }) {
  const end = useAct(
    () =>
      answerOf(api.DELETE('/api/posts/{post}/shares/{n}', { params: { path: { post: s.post, n: s.n } } })),
    ['shares'],
  );
  return (
    <p className="small inline">
      <span>
        “{s.text}” is a page for people without an account, opened {counted(s.opened, 'time')}
        {s.ended_at ? `; ${s.ended_by} ended it, ${fullOf(s.ended_at)}` : `; it ends ${fullOf(s.ends_at)}`}.
      </span>
      {editor && !s.ended_at && (
        <Popconfirm
          title="End the page for good? Whoever has its link sees nothing any more."
          okText="End it"
          cancelText="Leave it"
          onConfirm={() => end.mutate(undefined)}
        >
          <Button size="small">End it</Button>
        </Popconfirm>
      )}
    </p>
  );
}
