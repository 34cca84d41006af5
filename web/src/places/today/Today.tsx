import { Button } from 'antd';
import { Link } from 'react-router';
import { useAct, useMayEdit } from '../../api/act';
import { api, answerOf, type Schemas } from '../../api/client';
import { useAsks, useToday } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { Verdict } from '../../parts/Verdict';
import { agoOf, fullOf } from '../../parts/times';
import { counted } from '../../parts/counted';

/** How many open questions are listed here. */
const waitingShown = 6;

const nextWords: Record<string, string> = {
  due: 'comes due',
  lasts: 'if it lasts until then',
  schedule: 'by the calendar',
};

export function Today() {
  const today = useToday();
  const mayEdit = useMayEdit();
  const done = useAct(
    (id: number) => answerOf(api.POST('/api/notices/{id}/done', { params: { path: { id } } })),
    ['today'],
  );
  if (today.error) return <Trouble error={today.error} again={() => void today.refetch()} />;
  const t = today.data;
  if (!t) return null;
  const needs = t.needs ?? [];
  return (
    <main className="place" id="place">
      <h1>Today</h1>
      <p className="lead">
        {counted(t.arrivals, 'arrival')} so far, {t.told} of them told about.
      </p>
      {(t.begin ?? []).length > 0 && <Begin steps={t.begin ?? []} />}
      <section className="band">
        <h2 className="band-label">Needs you</h2>
        <div className="band-body">
          {needs.length === 0 && (t.begin ?? []).length === 0 && (
            <p className="good">Nothing. Every post that was due has been delivered.</p>
          )}
          {needs.length === 0 && (t.begin ?? []).length > 0 && (
            <p className="muted">Nothing yet: nobody has been told anything here.</p>
          )}
          <ul className="plainlist">
            {needs.map((n) => (
              <li key={n.what}>
                <Link to={n.go}>
                  <strong>{n.what}</strong>
                </Link>{' '}
                {n.id > 0 && mayEdit && (
                  <Button size="small" type="text" onClick={() => done.mutate(n.id)}>
                    Seen to
                  </Button>
                )}
                <div className="muted">{n.words}</div>
              </li>
            ))}
          </ul>
        </div>
      </section>
      <Waiting />
      {(t.channels ?? []).length > 0 && (
        <section className="band">
          <h2 className="band-label">Channels</h2>
          <div className="band-body">
            <table className="ledger">
              <thead>
                <tr>
                  <th>Channel</th>
                  <th className="num">Posts today</th>
                  <th className="num">Usual by this hour</th>
                  <td />
                </tr>
              </thead>
              <tbody>
                {(t.channels ?? []).map((c) => (
                  <tr key={c.name}>
                    <td>{c.name}</td>
                    <td className="num">{c.today}</td>
                    <td className="num">{c.usual.toFixed(1)}</td>
                    <td>{c.unusual && <span className="brass">△ {c.unusual} than usual</span>}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </section>
      )}
      {(t.next ?? []).length > 0 && (
        <section className="band">
          <h2 className="band-label">Next</h2>
          <div className="band-body">
            <table className="ledger">
              <tbody>
                {(t.next ?? []).map((n) => (
                  <tr key={`${n.workflow_id}-${n.key}`}>
                    <td className="when" title={fullOf(n.at)}>
                      {agoOf(n.at)}
                    </td>
                    <td>
                      <Link to={`/workflows/${n.workflow_id}`}>{n.name}</Link>
                    </td>
                    <td>{n.key || <span className="muted">the calendar</span>}</td>
                    <td className="muted">{nextWords[n.form] ?? ''}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </section>
      )}
      <section className="band">
        <h2 className="band-label">Latest posts</h2>
        <div className="band-body">
          <table className="ledger">
            <tbody>
              {(t.latest ?? []).map((p) => (
                <tr key={p.id}>
                  <td className="when" title={fullOf(p.created_at)}>
                    {agoOf(p.sent_at ?? p.created_at)}
                  </td>
                  <td>{p.destination}</td>
                  <td>
                    <Link to={`/arrivals/${p.arrival}`}>{p.title || p.plain}</Link>
                  </td>
                  <td>
                    <Verdict is={p.state} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </section>
    </main>
  );
}

/** Questions that workflows have put to people and that nobody has answered, the newest first. */
function Waiting() {
  const asks = useAsks('all', 'open');
  const items = (asks.data?.pages ?? []).flatMap((p) => p.items ?? []);
  if (items.length === 0) return null;
  return (
    <section className="band">
      <h2 className="band-label">Waiting for an answer</h2>
      <div className="band-body">
        <table className="ledger">
          <tbody>
            {items.slice(0, waitingShown).map((a) => (
              <tr key={a.id}>
                <td className="when" title={fullOf(a.put_at)}>
                  {agoOf(a.put_at)}
                </td>
                <td>
                  <Link to={`/asked/${a.id}`}>{a.title || a.key || a.name}</Link>
                </td>
                <td>
                  <Link to={`/workflows/${a.workflow_id}`}>{a.workflow}</Link>
                </td>
                <td className="muted">
                  asked of {(a.open ?? []).join(', ')}
                  {a.ends_at && <>, ends {agoOf(a.ends_at)}</>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {items.length > waitingShown && (
          <p className="small">
            <Link to="/asked">All that are open</Link>
          </p>
        )}
      </div>
    </section>
  );
}

/** The way to the first alert: what is done, and what is next. */
function Begin({ steps }: { steps: Schemas['FirstStep'][] }) {
  const next = steps.findIndex((s) => !s.done);
  return (
    <section className="band" aria-label="To begin">
      <h2 className="band-label">To begin</h2>
      <div className="band-body">
        <ol className="beginning">
          {steps.map((s, i) => (
            <li key={s.what} aria-current={i === next ? 'step' : undefined}>
              {s.done ? (
                <span className="good">✓ {s.what}</span>
              ) : i === next ? (
                <strong>
                  <Link to={s.go}>{s.what}</Link>
                </strong>
              ) : (
                <Link to={s.go}>{s.what}</Link>
              )}
              {!s.done && <div className="muted">{s.words}</div>}
            </li>
          ))}
        </ol>
      </div>
    </section>
  );
}
