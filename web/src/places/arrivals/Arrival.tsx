import './arrivals.css';
import { Link, useParams } from 'react-router';
import { useArrival } from '../../api/queries';
import { Again } from './Again';
import { WhyOne } from './WhyOne';
import { AsItCame } from '../../parts/AsItCame';
import { Trouble } from '../../parts/Trouble';
import { Verdict } from '../../parts/Verdict';
import { clockOf, fullOf } from '../../parts/times';

/** One arrival: its record, what changed, and every workflow's verdict with its reasons. */
export function Arrival() {
  const id = Number(useParams().id);
  const arrival = useArrival(id);
  if (arrival.error) return <Trouble error={arrival.error} again={() => void arrival.refetch()} />;
  if (!arrival.data) return null;
  const { arrival: a, why, posts } = arrival.data;
  return (
    <main className="place" id="place">
      <div className="place-head">
        <Link to="/arrivals" className="back" aria-label="Back to all arrivals">
          ‹
        </Link>
        <h1>
          {a.key} <span className="muted">{a.kind}</span>
        </h1>
        <p className="lead">
          {a.source}, {fullOf(a.at)}
          {a.by && `, by ${a.by}`}
        </p>
      </div>
      {(a.through ?? []).length > 0 && (
        <p className={a.stopped ? 'bad' : 'brass'}>
          {a.stopped
            ? '✕ It went round in a circle, so nothing is told of it: '
            : '△ Dorfbote caused it itself: '}
          it came through {(a.through ?? []).join(', then ')}.
        </p>
      )}
      <div className="halves">
        <section>
          <h2>Record</h2>
          <table className="ledger">
            <tbody>
              {(a.fields ?? []).map((f) => (
                <tr key={f.field} className={f.changed ? 'is-changed' : ''}>
                  <th scope="row" title={f.field}>
                    {f.label}
                  </th>
                  <td>
                    {f.changed && f.was && <s>{f.was}</s>} {f.value || <span className="muted">(empty)</span>}
                  </td>
                  <td className="muted small">{f.changed ? 'changed' : f.type}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <AsItCame a={a} />
        </section>
        <section>
          <h2>Who was told, and why</h2>
          <Again id={id} then={why ?? []} />
          {(why ?? []).length === 0 && <p className="muted">No workflow that is on watches {a.source}.</p>}
          {(why ?? []).map((w) => (
            <WhyOne
              key={w.workflow_id}
              why={w}
              arrival={a.seq}
              run={w.verdict !== 'ignored' && !!w.decided_at}
            />
          ))}
          {(posts ?? []).length > 0 && <h2>Posts</h2>}
          <table className="ledger">
            <tbody>
              {(posts ?? []).map((p) => (
                <tr key={p.id}>
                  <td>
                    <Verdict is={p.state} />
                  </td>
                  <td>{p.destination}</td>
                  <td>
                    <Link to={`/outbox?post=${p.id}`}>
                      {p.private ? 'for one person only' : p.title || p.plain}
                    </Link>
                    {p.link && (
                      <>
                        {' · '}
                        <a href={p.link} target="_blank" rel="noreferrer">
                          Look at the post where it is
                        </a>
                      </>
                    )}
                  </td>
                  <td className="muted small">{p.sent_at ? clockOf(p.sent_at) : p.answer}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      </div>
    </main>
  );
}
