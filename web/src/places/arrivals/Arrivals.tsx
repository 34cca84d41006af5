import { Listed } from '../../parts/Listed';
import { ChoiceFilter, FilterHead, TextFilter, useFilters } from '../../parts/FilterHead';
import './arrivals.css';
import { Link } from 'react-router';
import type { ArrivalItem } from '../../api/client';
import { useArrivals, useSources, type ArrivalFilter } from '../../api/queries';
import { TimeFilter } from './TimeFilter';
import { More } from '../../parts/More';
import { Nothing } from '../../parts/Nothing';
import { LaterWords } from '../../parts/LaterWords';
import { Verdict } from '../../parts/Verdict';
import { clockOf, dayOf, fullOf } from '../../parts/times';

const verdicts = ['told', 'repeated', 'held', 'dropped', 'unrouted', 'failed', 'ignored'] as const;

export function Arrivals() {
  const { get, set } = useFilters();
  const filter: ArrivalFilter = {
    source: get('source'),
    q: get('q'),
    since: get('since'),
    until: get('until'),
    workflow: Number(get('workflow')) || undefined,
    verdict: get('verdict') as ArrivalFilter['verdict'],
  };
  const arrivals = useArrivals(filter);
  const sources = useSources();
  const items = arrivals.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  return (
    <main className="place" id="place">
      <FilterHead title="Arrivals">
        <ChoiceFilter
          label="Source"
          every="Every source"
          wide
          value={filter.source}
          values={(sources.data?.items ?? []).map((s) => s.source)}
          set={(v) => set('source', v)}
        />
        <ChoiceFilter
          label="Verdict"
          every="Every verdict"
          value={filter.verdict}
          values={verdicts}
          set={(v) => set('verdict', v)}
        />
        <TextFilter
          label="Text in the record"
          hint="Text in the record, or its key"
          value={filter.q}
          set={(v) => set('q', v)}
        />
        <TimeFilter label="from" value={filter.since} set={(v) => set('since', v)} />
        <TimeFilter label="until" value={filter.until} set={(v) => set('until', v)} />
      </FilterHead>
      <table className="ledger arrivals">
        <thead>
          <tr>
            <th>When</th>
            <th>Source</th>
            <th>Record</th>
            <th>What changed</th>
            <th>Verdicts</th>
          </tr>
        </thead>
        <tbody>
          {items.map((a) => (
            <ArrivalRow key={a.seq} a={a} />
          ))}
        </tbody>
      </table>
      <Listed of={arrivals} count={items.length}>
        {arrivals.hasNextPage ? (
          <p className="muted">None of the last 50,000 arrivals fits; look further back with “Older ones”.</p>
        ) : (
          <Nothing fits="Nothing has come in that fits." yet="Nothing has come in yet." />
        )}
      </Listed>
      <More of={arrivals} />
    </main>
  );
}

function ArrivalRow({ a }: { a: ArrivalItem }) {
  const verdicts = a.verdicts ?? [];
  return (
    <tr>
      <td className="when" title={fullOf(a.at)}>
        {dayOf(a.at)} {clockOf(a.at)}
      </td>
      <td>{a.source}</td>
      <td>
        <Link to={`/arrivals/${a.seq}`}>{a.key || a.id}</Link> <span className="muted">{a.kind}</span>
      </td>
      <td className="changes">
        {(a.changes ?? []).map((c) => (
          <span key={c.field}>
            {c.label}: {c.was && <s>{c.was}</s>} <b>{c.now || '(empty)'}</b>
          </span>
        ))}
      </td>
      <td>
        {verdicts.length === 0 && <Verdict is="ignored" />}
        {verdicts.map((v) => (
          <div key={v.workflow_id}>
            <Verdict is={v.verdict}>
              {' '}
              <span className="muted">
                by <Link to={`/runs/${a.seq}/${v.workflow_id}`}>{v.workflow}</Link>
                {v.row && `, ${v.row}`}
                <LaterWords later={v.later} at={v.later_at} />
                {v.because && (
                  <span title={v.decided_by}>
                    , not <q>{v.because}</q>
                  </span>
                )}
              </span>
            </Verdict>
          </div>
        ))}
      </td>
    </tr>
  );
}
