import { Link, useParams } from 'react-router';
import type { Line, ProofLines, Schemas } from '../../api/client';
import { useArrival } from '../../api/queries';
import { Again } from './Again';
import { AsItCame } from '../../parts/AsItCame';
import { Trouble } from '../../parts/Trouble';
import { LaterWords } from '../../parts/LaterWords';
import { Verdict } from '../../parts/Verdict';
import { clockOf, fullOf } from '../../parts/times';
import { counted } from '../../parts/counted';

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
                    <Link to={`/outbox?post=${p.id}`}>{p.title || p.plain}</Link>
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

export function WhyOne({ why: w, arrival, run }: { why: Schemas['Why']; arrival: number; run?: boolean }) {
  return (
    <div className="why">
      <p>
        <Verdict is={w.verdict} />{' '}
        <Link to={`/workflows/${w.workflow_id}?arrival=${arrival}`}>{w.workflow}</Link>{' '}
        <span className="muted">version {w.version}</span>
        {run && (
          <>
            {' '}
            <Link to={`/runs/${arrival}/${w.workflow_id}`}>Run</Link>
          </>
        )}
      </p>
      {w.error && (
        <p className="bad">
          {w.where}: {w.error}
        </p>
      )}
      {w.row && (
        <p className="muted">
          Route: {w.row}
          <LaterWords later={w.later} at={w.later_at} />
        </p>
      )}
      {w.proof ? (
        <Lines proof={w.proof} decider={w.decided_by} />
      ) : (
        w.decided_by && <p className="muted">{w.decided_by}</p>
      )}
    </div>
  );
}

const flat = (l: Line | null | undefined): Line[] => (l ? [l, ...(l.parts ?? []).flatMap(flat)] : []);

function Lines({ proof, decider }: { proof: ProofLines; decider: string }) {
  const gathered = proof.gather ?? [];
  if (!proof.starts) return <p className="muted">Watch does not start on {proof.kind}.</p>;
  const keep = flat(proof.keep).filter((l) => !l.parts?.length);
  const lines = [
    ...flat(proof.when).filter((l) => !l.parts?.length),
    ...(proof.when?.result === 'false' ? [] : keep),
  ];
  return (
    <table className="ledger whylines">
      <tbody>
        {lines.map((l) => (
          <tr key={l.path} className={l.path === decider ? 'is-decider' : ''}>
            <td className={l.result === 'true' ? 'good' : l.error ? 'bad' : 'no'}>
              {l.result === 'true' ? '✓' : '✗'}
            </td>
            <td>{l.text}</td>
            <td>
              {l.error ? (
                <span className="bad">{l.error}</span>
              ) : l.was && l.was !== l.seen ? (
                `was ${l.was}, is ${l.seen}`
              ) : (
                l.seen && `is ${l.seen}`
              )}
            </td>
            <td className="muted small">{l.path === decider ? 'this decided' : l.path}</td>
          </tr>
        ))}
        {gathered.map((g) => (
          <tr key={g.path}>
            <td />
            <td>{g.name}</td>
            <td>
              {g.error ? (
                <span className="bad">{g.error}</span>
              ) : (
                <>
                  is {g.many && <span className="muted">{counted(g.count, 'record')} </span>}
                  {g.value || (g.many ? '' : '(empty)')}
                </>
              )}
            </td>
            <td className="muted small">gathered</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
