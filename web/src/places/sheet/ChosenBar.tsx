import { Button } from 'antd';
import { useEffect } from 'react';
import { Link } from 'react-router';
import type { ArrivalDetail, ProofLines, TrailMark } from '../../api/client';
import { clockOf, dayOf, fullOf } from '../../parts/times';
import { Verdict } from '../../parts/Verdict';
import { Sample } from './Sample';
import type { Stale } from './useProof';

interface Props {
  /** Whether it is known what has come in: until the first proof is there, it is not. */
  known: boolean;
  arrival: ArrivalDetail | undefined;
  proof: ProofLines | undefined;
  marks: TrailMark[];
  choose: (seq: number, key?: string) => void;
  source: string;
  /** The sheet has an error that the verdict depends on: what is shown is from before it, or without it. */
  stale: Stale;
}

/** Which arrival the proof is about, and what becomes of it; steps through the trail. */
export function ChosenBar({ known, arrival, proof, marks, choose, source, stale }: Props) {
  const at = marks.findIndex((m) => m.seq === arrival?.seq);
  const step = (by: number, told: boolean) => {
    for (let i = at + by; i >= 0 && i < marks.length; i += by) {
      if (!told || marks[i]!.verdict === 'told') {
        choose(marks[i]!.seq);
        return;
      }
    }
  };
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const t = e.target as HTMLElement;
      if (
        /^(INPUT|TEXTAREA|SELECT)$/.test(t.tagName) ||
        t.isContentEditable ||
        e.ctrlKey ||
        e.metaKey ||
        e.altKey
      )
        return;
      if (e.key === '[') step(-1, false);
      if (e.key === ']') step(1, false);
      if (e.key === '{') step(-1, true);
      if (e.key === '}') step(1, true);
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  });
  if (!known && !arrival) return <p className="chosen muted">Looking for what has come in …</p>;
  if (!arrival)
    return (
      <p className="chosen muted">
        Nothing has come in from this source yet, so there is nothing to prove the sheet on.
        <Sample source={source} after={0} choose={choose} />
      </p>
    );
  return (
    <div className="chosen">
      <span className="chosen-steps">
        <Button size="small" onClick={() => step(-1, true)} aria-label="The arrival before that is told">
          ‹ told
        </Button>
        <Button size="small" onClick={() => step(-1, false)} aria-label="The arrival before">
          ‹
        </Button>
        <Button size="small" onClick={() => step(1, false)} aria-label="The next arrival">
          ›
        </Button>
        <Button size="small" onClick={() => step(1, true)} aria-label="The next arrival that is told">
          told ›
        </Button>
      </span>
      <Sample source={source} after={marks.at(-1)?.seq ?? 0} choose={choose} />
      <span>
        {arrival.seq > 0 ? (
          <Link to={`/arrivals/${arrival.seq}`}>
            <strong>{arrival.key}</strong>
          </Link>
        ) : (
          <strong>{arrival.key || 'Without a record'}</strong>
        )}{' '}
        {arrival.kind}{' '}
        <span className="muted" title={fullOf(arrival.at)}>
          {dayOf(arrival.at)} {clockOf(arrival.at)}
          {arrival.by && ` by ${arrival.by}`}
        </span>
      </span>
      <span className="chosen-changes">
        {(arrival.changes ?? []).map((c) => (
          <span key={c.field}>
            {c.label}: {c.was && <s>{c.was}</s>} <b>{c.now || '(empty)'}</b>
          </span>
        ))}
      </span>
      {stale && (
        <span className="brass">
          △ {stale === 'before' ? 'as it was before the error' : 'without the parts that have errors'}
        </span>
      )}
      <span className="chosen-verdict" data-testid="verdict">
        {proof && (
          <Verdict is={proof.verdict}>
            {proof.row && <span className="muted"> by {proof.row}</span>}
            {proof.decided_by && <span className="muted"> at {proof.decided_by}</span>}
          </Verdict>
        )}
      </span>
    </div>
  );
}
