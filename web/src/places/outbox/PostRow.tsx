import { App, Button, Popconfirm } from 'antd';
import { Link } from 'react-router';
import { useAct } from '../../api/act';
import { api, answerOf, type PostItem } from '../../api/client';
import { usePost, useShares } from '../../api/queries';
import { Attempts } from '../../parts/Attempts';
import { MessageView } from '../../parts/MessageView';
import { SharedPage } from '../../parts/SharedPage';
import { Trouble } from '../../parts/Trouble';
import { Verdict } from '../../parts/Verdict';
import { clockOf, dayOf, fullOf } from '../../parts/times';
import { actsOn, actWords, anewIn, useActOnPosts, useMakeAnew, type Act } from './acts';

interface Props {
  p: PostItem;
  editor: boolean;
  chosen: boolean;
  choose: () => void;
  open: boolean;
  toggle: () => void;
}

const reports: Record<string, string> = {
  sent: '→ on its way to the phone',
  delivered: '✓ delivered',
  failed: '✕ not delivered',
};

/** One post; opened, with what went out and what came back. */
export function PostRow({ p, editor, chosen, choose, open, toggle }: Props) {
  const name = p.private ? 'for one person only' : p.title || p.plain;
  return (
    <>
      <tr className={open ? 'is-open' : ''} data-post={p.id}>
        {editor && (
          <td>
            {p.state !== 'sent' && (
              <input type="checkbox" aria-label={`Choose ${name}`} checked={chosen} onChange={choose} />
            )}
          </td>
        )}
        <td>
          <Verdict is={p.state} />
        </td>
        <td className="when" title={fullOf(p.created_at)}>
          {dayOf(p.created_at)} {clockOf(p.created_at)}
        </td>
        <td>{p.destination}</td>
        <td>
          <button type="button" className="rowbutton" aria-expanded={open} onClick={toggle}>
            {name || '(no title)'}
          </button>
          {p.under != null && <span className="muted small"> in the thread</span>}
          {p.updates != null && <span className="muted small"> puts an earlier post up to date</span>}
        </td>
        <td>
          <Link to={`/runs/${p.arrival}/${p.workflow_id}`}>{p.workflow}</Link>
        </td>
        <td className="small">
          {p.state !== 'sent' && p.answer}
          {p.state === 'sent' && p.report && <span className="muted">{reports[p.report]}</span>}
          {p.attempts > 1 && <span className="muted"> {p.attempts} tries</span>}
        </td>
      </tr>
      {open && (
        <tr className="opened">
          <td colSpan={editor ? 7 : 6}>
            <Opened p={p} editor={editor} />
          </td>
        </tr>
      )}
    </>
  );
}

/** The pages that a post shares with people without an account. */
function Shares({ p, editor }: { p: PostItem; editor: boolean }) {
  const shares = useShares({ post: p.updates ?? p.id });
  return (shares.data?.items ?? []).map((s) => <SharedPage key={s.n} share={s} editor={editor} />);
}

/** Whom a post reached beyond its destination, what became of it there, and a link to it. */
function Reached({ p }: { p: PostItem }) {
  const to = (s: string) => s.slice(s.indexOf('/') + 1);
  return (
    <>
      {(p.cc || p.bcc) && (
        <p className="small">
          {p.cc && `Copy to ${to(p.cc)}. `}
          {p.bcc && `Hidden copy to ${to(p.bcc)}.`}
        </p>
      )}
      {p.report && (
        <p
          className={p.report === 'failed' ? 'bad small' : p.report === 'delivered' ? 'good small' : 'small'}
        >
          {reports[p.report]}
          {p.report_words && `: ${p.report_words}`}
          {p.report_at && <span className="muted"> {clockOf(p.report_at)}</span>}
        </p>
      )}
      {p.link && (
        <p className="small">
          <a href={p.link} target="_blank" rel="noreferrer">
            Look at the post where it is
          </a>
        </p>
      )}
    </>
  );
}

/** Whether a message has links or buttons that act on their own, which can be ended. */
const leads = (doc: PostItem['doc']) =>
  (doc?.buttons ?? []).length > 0 || (doc?.links ?? []).some((l) => l.share);

/** Ends all that the links and buttons of a post lead to, where they came into the wrong hands. */
function EndLinks({ id }: { id: number }) {
  const { message } = App.useApp();
  const end = useAct(
    () => answerOf(api.DELETE('/api/posts/{id}/links', { params: { path: { id } } })),
    ['shares', 'posts', 'audit'],
    () => void message.success('Its links and buttons do nothing any more.'),
  );
  return (
    <Popconfirm
      title="End its links and buttons for good? Whoever has them can do nothing with them any more."
      okText="End them"
      cancelText="Leave them"
      onConfirm={() => end.mutate(undefined)}
    >
      <Button size="small" loading={end.isPending}>
        End its links
      </Button>
    </Popconfirm>
  );
}

function Opened({ p, editor }: { p: PostItem; editor: boolean }) {
  const post = usePost(p.id);
  const act = useActOnPosts();
  const anew = useMakeAnew();
  const { modal } = App.useApp();
  const run = (a: Act) => act.mutate({ act: a, ids: [p.id] });
  const drop = () =>
    modal.confirm({
      title: 'Drop this post?',
      content: `${p.destination} will not be told. The post stays in the outbox and can be sent again.`,
      okText: 'Drop it',
      onOk: () => run('drop'),
    });
  if (post.error) return <Trouble error={post.error} again={() => void post.refetch()} />;
  if (!post.data) return null;
  const d = post.data;
  return (
    <div className="opened-post">
      <div>
        <Reached p={d.post} />
        {d.post.private && (
          <p className="muted small">What it says is for one person only, so that it is not shown here.</p>
        )}
        {(d.post.doc?.links ?? []).some((l) => l.share) && <Shares p={d.post} editor={editor} />}
        {d.post.doc && <MessageView doc={{ ...d.post.doc, attach: null }} />}
        {(d.post.doc?.attach ?? []).map((f, n) => (
          <p key={f.name} className="small">
            <a href={`/api/posts/${p.id}/files/${n}`}>{f.name}</a>{' '}
            <span className="muted">{Math.max(1, Math.round((f.size ?? 0) / 1024))} kB, as it is sent</span>
          </p>
        ))}
        <p className="small muted">
          Tells of <Link to={`/arrivals/${p.arrival}`}>{d.arrival || 'its arrival'}</Link>. Key:{' '}
          <span className="mono">{p.key}</span>
        </p>
        {d.not_until && (
          <p className="brass">
            {p.destination} is left alone until {clockOf(d.not_until)}.
          </p>
        )}
        {editor && (
          <div className="inline">
            {anewIn.includes(p.state) && (
              <Button
                size="small"
                loading={anew.isPending}
                title="Writes it again with the version that is on, and sends it"
                onClick={() => anew.mutate(p.id)}
              >
                Make anew
              </Button>
            )}
            {p.state === 'sent' && leads(d.post.doc) && <EndLinks id={p.id} />}
            {(actsOn[p.state] ?? []).map((a) => (
              <Button
                key={a}
                size="small"
                loading={act.isPending}
                onClick={() => (a === 'drop' ? void drop() : run(a))}
              >
                {actWords[a]}
              </Button>
            ))}
          </div>
        )}
      </div>
      <Attempts tried={d.tried ?? []} state={p.state} />
    </div>
  );
}
