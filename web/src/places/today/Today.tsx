import { Link } from 'react-router';
import { useToday } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { Verdict } from '../../parts/Verdict';
import { agoOf, fullOf } from '../../parts/times';

export function Today() {
  const today = useToday();
  if (today.error) return <Trouble error={today.error} again={() => void today.refetch()} />;
  const t = today.data;
  if (!t) return null;
  const needs = t.needs ?? [];
  return (
    <main className="place" id="place">
      <h1>Today</h1>
      <p className="lead">
        {t.arrivals} arrivals so far, {t.told} of them told about.
      </p>
      <section className="band">
        <h2 className="band-label">Needs you</h2>
        <div className="band-body">
          {needs.length === 0 && <p className="good">Nothing. Every post that was due has been delivered.</p>}
          <ul className="plainlist">
            {needs.map((n) => (
              <li key={n.what}>
                <Link to={n.go}>
                  <strong>{n.what}</strong>
                </Link>
                <div className="muted">{n.words}</div>
              </li>
            ))}
          </ul>
        </div>
      </section>
      <section className="band">
        <h2 className="band-label">Channels</h2>
        <div className="band-body">
          <table className="ledger">
            <thead>
              <tr>
                <th>Channel</th>
                <th className="num">Posts today</th>
                <th className="num">Usual by now</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {(t.channels ?? []).map((c) => (
                <tr key={c.name}>
                  <td>{c.name}</td>
                  <td className="num">{c.today}</td>
                  <td className="num">{c.usual.toFixed(1)}</td>
                  <td>{c.today > c.usual * 3 + 3 ? <span className="brass">more than usual</span> : ''}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </section>
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
