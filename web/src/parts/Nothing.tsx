import { Link } from 'react-router';
import { useToday } from '../api/queries';

/** What an empty list says: that nothing fits or, where nothing has ever been, what is to be done first. */
export function Nothing({ fits, yet }: { fits: string; yet: string }) {
  const begin = useToday().data?.begin ?? [];
  const next = begin.find((s) => !s.done);
  if (!next) return <p className="muted">{fits}</p>;
  return (
    <p className="muted">
      {yet} The next step: <Link to={next.go}>{next.what.charAt(0).toLowerCase() + next.what.slice(1)}</Link>.
    </p>
  );
}
