import type { Step } from '../../api/client';

/** What was tried when a connection was proved, what came back, and what to do. */
export function Steps({ steps }: { steps: Step[] }) {
  return (
    <ol className="steps" aria-label="What was tried">
      {steps.map((s, i) => (
        <li key={i}>
          <span className={s.ok ? 'good' : s.open ? 'brass' : 'bad'}>
            {s.ok ? '✓ worked' : s.open ? '△ not known yet' : '✕ did not work'}
          </span>{' '}
          <strong>{s.tried}</strong>
          <div>{s.said}</div>
          {s.do && (
            <div className={s.ok || s.open ? 'muted' : ''}>
              To do: {s.do}
              {s.who && <span>. {s.who} can grant it</span>}.
            </div>
          )}
        </li>
      ))}
    </ol>
  );
}
