import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, answerOf } from '../../api/client';
import { counted } from '../../parts/counted';

/** A number of seconds, as far as it matters: "40 s", "12 min", "3 h", "2 days". */
export function spanOf(seconds: number): string {
  if (seconds < 90) return `${Math.round(seconds)} s`;
  if (seconds < 90 * 60) return `${Math.round(seconds / 60)} min`;
  if (seconds < 36 * 3600) return `${Math.round(seconds / 3600)} h`;
  return `${Math.round(seconds / 86400)} days`;
}

/** What came of what the workflow has told: how many posts led to something, and what people say of them. */
export function Worth({ workflow, open = false }: { workflow: number; open?: boolean }) {
  const worth = useQuery({
    queryKey: ['workflows', workflow, 'worth'],
    queryFn: () => answerOf(api.GET('/api/workflows/{id}/worth', { params: { path: { id: workflow } } })),
  });
  const items = worth.data?.items ?? [];
  if (!worth.data || items.length === 0) return null;
  const sum = (of: 'posts' | 'led' | 'useful' | 'not_for_me') => items.reduce((n, w) => n + w[of], 0);
  return (
    <details className="worth small" open={open}>
      <summary>
        In {worth.data.days} days {counted(sum('posts'), 'post')}, of which {sum('led').toLocaleString('en')}{' '}
        led to something · useful {sum('useful')} · not for me {sum('not_for_me')}
      </summary>
      <div className="worth-table">
        <table className="ledger">
          <thead>
            <tr>
              <th scope="col">Told</th>
              <th scope="col" className="num">
                Posts
              </th>
              <th scope="col" className="num">
                Led to something
              </th>
              <th scope="col" className="num">
                Half of these within
              </th>
              <th scope="col" className="num">
                Useful
              </th>
              <th scope="col" className="num">
                Not for me
              </th>
            </tr>
          </thead>
          <tbody>
            {items.map((w) => (
              <tr key={w.destination}>
                <td>{w.destination}</td>
                <td className="num">{w.posts.toLocaleString('en')}</td>
                <td className="num">{w.led.toLocaleString('en')}</td>
                <td className="num">{w.median_s === null ? '–' : spanOf(w.median_s)}</td>
                <td className="num">{w.useful}</td>
                <td className="num">{w.not_for_me}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="muted">
        A post led to something where somebody took it, answered it, pressed one of its buttons, or found it
        useful. {!open && <Link to={`/workflows/${workflow}/worth`}>Could it tell less?</Link>}
      </p>
    </details>
  );
}
