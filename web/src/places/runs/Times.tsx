import type { Schemas } from '../../api/client';
import { clockOf, dayOf, fullOf } from '../../parts/times';

interface Moment {
  at: string;
  what: string;
}

/** How long after the one before something happened, in words. */
function after(before: string | undefined, at: string): string {
  if (!before) return '';
  const ms = new Date(at).getTime() - new Date(before).getTime();
  if (ms < 1) return '';
  if (ms < 1000) return `+${ms} ms`;
  if (ms < 90_000) return `+${(ms / 1000).toFixed(1)} s`;
  if (ms < 5_400_000) return `+${Math.round(ms / 60_000)} min`;
  return `+${(ms / 3_600_000).toFixed(1)} h`;
}

/** When what happened: from the moment in the app to the last thing that followed. */
export function Times({ run }: { run: Schemas['RunOutputBody'] }) {
  const moments: Moment[] = [
    { at: run.run.at, what: 'happened' },
    { at: run.received_at, what: 'came in' },
  ];
  if (run.run.decided_at) moments.push({ at: run.run.decided_at, what: 'decided' });
  for (const p of run.posts ?? [])
    if (p.sent_at) moments.push({ at: p.sent_at, what: `${p.destination} has it` });
  for (const s of run.steps ?? [])
    if (s.done_at) moments.push({ at: s.done_at, what: `${s.name}: ${s.state}` });
  const past = moments.filter((m) => new Date(m.at).getFullYear() > 1);
  return (
    <ol className="times" aria-label="When what happened">
      {past.map((m, i) => (
        <li key={i} title={fullOf(m.at)}>
          <b>{m.what}</b>
          <span>
            {dayOf(m.at)} {clockOf(m.at)}
          </span>
          <span className="muted small">{after(past[i - 1]?.at, m.at)}</span>
        </li>
      ))}
    </ol>
  );
}
