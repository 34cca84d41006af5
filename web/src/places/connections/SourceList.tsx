import { useAct } from '../../api/act';
import { Button } from 'antd';
import { Link } from 'react-router';
import { api, answerOf, type ConnectionDetail, type ConnectionKind, type SourceItem } from '../../api/client';
import { sourcePath } from '../../api/queries';
import { agoOf } from '../../parts/times';
import { counted } from '../../parts/counted';

interface Props {
  c: ConnectionDetail;
  kind: ConnectionKind;
  editor: boolean;
}

/** What is read from a connection, and how each reading goes. */
export function SourceList({ c, kind, editor }: Props) {
  const list = c.reads ?? [];
  if (list.length === 0)
    return (
      <p className="muted">
        {kind.signs
          ? 'Its sources appear with the first event of each kind.'
          : 'Nothing is read from it yet.'}
      </p>
    );
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>Source</th>
          <th>Key</th>
          {kind.asks && <th>Asked</th>}
          {kind.asks && <th>Last time</th>}
          {kind.asks && <th className="num">Calls a day</th>}
          <th>
            <span className="unseen">Acts</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {list.map((s) => (
          <Row key={s.source} s={s} asks={kind.asks} editor={editor} />
        ))}
      </tbody>
    </table>
  );
}

const every = (s: number) =>
  s < 60 ? `${s} s` : s < 3600 ? `${Math.round(s / 60)} min` : `${Math.round(s / 360) / 10} h`;

function Row({ s, asks, editor }: { s: SourceItem; asks: boolean; editor: boolean }) {
  const check = useAct(
    () =>
      answerOf(
        api.POST('/api/sources/{connection}/{kind}/check', { params: { path: sourcePath(s.source) } }),
      ),
    ['connections'],
  );
  const p = s.poll;
  return (
    <tr>
      <td>
        <Link to={`/sources/${s.source}`}>{s.title}</Link>
        <div className="muted small mono">{s.source}</div>
      </td>
      <td>{s.key_field}</td>
      {asks && (
        <td>
          {p ? (
            <>
              every {every(p.every)}
              <div className="muted small">
                {every(p.quickest)} to {every(p.slowest)}
              </div>
            </>
          ) : (
            ''
          )}
        </td>
      )}
      {asks && (
        <td>
          {p?.asking && <span className="brass">… being asked</span>}
          {p && !p.asking && p.failures > 0 && (
            <span className="bad">
              ✕ failed {p.failures === 1 ? 'once' : `${p.failures} times`}
              <div className="small">{p.last_error}</div>
              <div className="muted small">next try {agoOf(p.due_at)}</div>
            </span>
          )}
          {p && !p.asking && p.failures === 0 && (
            <>
              <span className={p.last_ok ? 'good' : 'muted'}>
                {p.last_ok ? `✓ ${agoOf(p.last_ok)}` : '○ not yet'}
              </span>
              <div className="muted small">
                {p.last_ok && `${counted(p.last_rows, 'record')}, ${p.last_ms.toLocaleString('en')} ms`}
              </div>
            </>
          )}
        </td>
      )}
      {asks && <td className="num">{p ? p.calls_a_day.toLocaleString('en') : ''}</td>}
      <td className="acts">
        {editor && p && (
          <Button size="small" loading={check.isPending} onClick={() => check.mutate()}>
            Check now
          </Button>
        )}
      </td>
    </tr>
  );
}
