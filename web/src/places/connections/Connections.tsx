import { Listed } from '../../parts/Listed';
import './connections.css';
import { useMayEdit } from '../../api/act';
import { Button } from 'antd';
import { Link, useNavigate } from 'react-router';
import type { ConnectionItem } from '../../api/client';
import { useConnections } from '../../api/queries';
import { agoOf, fullOf } from '../../parts/times';
import { reached } from './forms';

/** Every app and chat, how each stands, and what it costs to ask it. */
export function Connections() {
  const connections = useConnections();
  const mayEdit = useMayEdit();
  const go = useNavigate();
  const items = connections.data?.items ?? [];
  const failing = items.filter((c) => c.failing_since && !c.paused).length;
  return (
    <main className="place" id="place">
      <div className="place-head">
        <h1>Connections</h1>
        <p className="lead">
          {connections.data && `${items.length} connected`}
          {failing > 0 && <span className="bad">, {failing} not answering</span>}
        </p>
        {mayEdit && (
          <Button type="primary" onClick={() => void go('/connections/new')}>
            Connect something
          </Button>
        )}
      </div>
      <table className="ledger">
        <thead>
          <tr>
            <th>Connection</th>
            <th>State</th>
            <th>Where</th>
            <th>Reads or posts to</th>
            <th className="num">Last 24 hours</th>
            <th className="num">Calls a day</th>
            <th>Last heard</th>
          </tr>
        </thead>
        <tbody>
          {items.map((c) => (
            <tr key={c.id}>
              <td>
                <Link to={`/connections/${c.id}`}>{c.title}</Link>
                <div className="muted small">
                  {c.kind_title}, <span className="mono">{c.id}</span>
                </div>
              </td>
              <td>
                <ConnectionState c={c} />
              </td>
              <td className="where">
                <span className="mono small">{(c.sends && c.settings.address) || c.address}</span>
              </td>
              <td>
                {[...(c.sources ?? []).map((s) => s.slice(s.indexOf('/') + 1)), ...reached(c)].join(', ') || (
                  <span className="muted">nothing yet</span>
                )}
              </td>
              <td className="num">{c.receives ? c.today : ''}</td>
              <td className="num">{c.calls_a_day > 0 ? c.calls_a_day.toLocaleString('en') : ''}</td>
              <td title={c.last_arrival ? fullOf(c.last_arrival) : ''}>
                {c.receives ? agoOf(c.last_arrival) : ''}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Listed of={connections} count={items.length}>
        <p className="muted">
          Nothing is connected yet. <Link to="/connections/new">Begin with the app</Link> whose changes matter
          most.
        </p>
      </Listed>
    </main>
  );
}

/** How a connection stands, in a word and a shape. */
export function ConnectionState({ c }: { c: ConnectionItem }) {
  if (c.paused) return <span className="brass">‖ paused</span>;
  if (c.failing_since)
    return (
      <span className="bad" title={c.last_error}>
        ✕ failing since {agoOf(c.failing_since).replace(' ago', '')}
      </span>
    );
  if (c.last_ok) return <span className="good">● well</span>;
  const only = !c.receives || ((c.sources ?? []).length === 0 && reached(c).length > 0); // posts go there, and nothing comes
  return <span className="muted">{only ? '○ nothing sent yet' : '○ not heard yet'}</span>;
}
