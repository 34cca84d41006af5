import { Input, Select } from 'antd';
import { Link, useSearchParams } from 'react-router';
import type { ArrivalItem } from '../../api/client';
import { useArrivals, useSources, type ArrivalFilter } from '../../api/queries';
import { TimeFilter } from './TimeFilter';
import { More } from '../../parts/More';
import { Trouble } from '../../parts/Trouble';
import { LaterWords } from '../../parts/LaterWords';
import { Verdict } from '../../parts/Verdict';
import { clockOf, dayOf, fullOf } from '../../parts/times';

const verdicts = ['told', 'repeated', 'held', 'dropped', 'unrouted', 'failed', 'ignored'];

export function Arrivals() {
  const [params, setParams] = useSearchParams();
  const filter: ArrivalFilter = {
    source: params.get('source') || undefined,
    q: params.get('q') || undefined,
    since: params.get('since') || undefined,
    until: params.get('until') || undefined,
    workflow: Number(params.get('workflow')) || undefined,
    verdict: (params.get('verdict') as ArrivalFilter['verdict']) || undefined,
  };
  const arrivals = useArrivals(filter);
  const sources = useSources();
  const set = (name: string, value: string | undefined) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  const items = arrivals.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  return (
    <main className="place" id="place">
      <div className="place-head">
        <h1>Arrivals</h1>
        <Select
          aria-label="Source"
          allowClear
          className="wide-select"
          placeholder="Every source"
          value={filter.source}
          options={(sources.data?.items ?? []).map((s) => ({ value: s.source, label: s.source }))}
          onChange={(v) => set('source', v)}
        />
        <Select
          aria-label="Verdict"
          allowClear
          className="op-select"
          placeholder="Every verdict"
          value={filter.verdict}
          options={verdicts.map((v) => ({ value: v, label: v }))}
          onChange={(v) => set('verdict', v)}
        />
        <Input.Search
          aria-label="Text in the record"
          className="wide-select"
          allowClear
          placeholder="Text in the record, or its key"
          defaultValue={filter.q}
          onSearch={(v) => set('q', v)}
        />
        <TimeFilter label="from" value={filter.since} set={(v) => set('since', v)} />
        <TimeFilter label="until" value={filter.until} set={(v) => set('until', v)} />
      </div>
      {arrivals.error && <Trouble error={arrivals.error} again={() => void arrivals.refetch()} />}
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
      {arrivals.data && items.length === 0 && (
        <p className="muted">
          {arrivals.hasNextPage
            ? 'None of the last 50,000 arrivals fits; look further back with “Older ones”.'
            : 'Nothing has come in that fits.'}
        </p>
      )}
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
