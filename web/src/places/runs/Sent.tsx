import { useMayEdit } from '../../api/act';
import { useAct } from '../../api/act';
import { Button } from 'antd';
import { Link } from 'react-router';
import { api, answerOf, type Schemas, type StepItem } from '../../api/client';
import { Attempts } from '../../parts/Attempts';
import { Verdict } from '../../parts/Verdict';
import { clockOf } from '../../parts/times';
import { actsOn, actWords, useActOnPosts } from '../outbox/acts';

/** What was sent, and what came back. */
export function RunPosts({ posts }: { posts: Schemas['RunPost'][] }) {
  const act = useActOnPosts();
  const editor = useMayEdit();
  if (posts.length === 0) return null;
  return (
    <section className="sent" aria-label="Posts">
      <h2>Posts</h2>
      {posts.map((p) => (
        <details key={p.id} open={p.state !== 'sent'}>
          <summary>
            <Verdict is={p.state} /> <b>{p.destination}</b> {p.title || p.plain}{' '}
            {p.under != null && <span className="muted">in the thread</span>}
            {p.state !== 'sent' && p.answer && <span className="bad"> {p.answer}</span>}
          </summary>
          <Attempts tried={p.tried ?? []} state={p.state} />
          {editor && (
            <div className="inline">
              {(actsOn[p.state] ?? []).map((a) => (
                <Button
                  key={a}
                  size="small"
                  loading={act.isPending}
                  onClick={() => act.mutate({ act: a, ids: [p.id] })}
                >
                  {actWords[a]}
                </Button>
              ))}
              <Link to={`/outbox?post=${p.id}`}>In the outbox</Link>
            </div>
          )}
          {p.link && (
            <p>
              <a href={p.link} target="_blank" rel="noreferrer">
                Look at the post where it is
              </a>
            </p>
          )}
        </details>
      ))}
    </section>
  );
}

const doing: Record<StepItem['kind'], string> = { add: 'add to', change: 'change in', call: 'call' };

/** What followed, and where it stopped. */
export function RunSteps({
  steps,
  arrival,
  workflow,
}: {
  steps: StepItem[];
  arrival: number;
  workflow: number;
}) {
  const editor = useMayEdit();
  const goOn = useAct(
    () =>
      answerOf(api.POST('/api/runs/{arrival}/{workflow}/go-on', { params: { path: { arrival, workflow } } })),
    ['runs'],
  );
  if (steps.length === 0) return null;
  const failed = steps.find((s) => s.state === 'failed' || s.state === 'skipped');
  return (
    <section className="sent" aria-label="What followed">
      <h2>Follow up</h2>
      {steps.map((s) => (
        <details key={s.id} open={s.state !== 'done'} data-step={s.n}>
          <summary>
            <Verdict is={s.state} />{' '}
            <b>
              {doing[s.kind]} {s.target}
            </b>{' '}
            {s.key}{' '}
            {s.state !== 'done' && <span className={s.state === 'failed' ? 'bad' : 'muted'}>{s.answer}</span>}
            {s.state === 'waiting' && s.not_before && (
              <span className="brass"> tried again at {clockOf(s.not_before)}</span>
            )}
          </summary>
          <Attempts tried={s.tried ?? []} state={s.state} />
        </details>
      ))}
      {failed && editor && (
        <Button size="small" type="primary" loading={goOn.isPending} onClick={() => goOn.mutate()}>
          Go on from “{failed.name}”
        </Button>
      )}
    </section>
  );
}
