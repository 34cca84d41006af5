import { Link } from 'react-router';
import type { Line, ProofLines, Schemas } from '../../api/client';
import { LaterWords } from '../../parts/LaterWords';
import { Verdict } from '../../parts/Verdict';
import { counted } from '../../parts/counted';

/** Why a workflow did with an arrival what it did: the verdict, what decided it, and every line with what was seen. */
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
