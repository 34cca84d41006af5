import { Button } from 'antd';
import type { ReactNode } from 'react';
import { problemsAt, useAround, useFound } from './surroundings';

/** A ruled section of the sheet: its label in the margin. */
export function Band({ label, hint, children }: { label: string; hint?: string; children: ReactNode }) {
  return (
    <section className="band sheetband" aria-label={label}>
      <h2 className="band-label">
        {label}
        {hint && <small>{hint}</small>}
      </h2>
      <div className="band-lines">{children}</div>
    </section>
  );
}

/** One line of a band: what is asked on the left, what proves it on the right. */
export function BandLine({
  ask,
  proof,
  className,
}: {
  ask: ReactNode;
  proof?: ReactNode;
  className?: string;
}) {
  return (
    <div className={`bandline ${className ?? ''}`}>
      <div className="ask">{ask}</div>
      <div className="proof">{proof}</div>
    </div>
  );
}

/** What is wrong at a place on the sheet. */
export function ProblemsAt({ path, exact }: { path: string; exact?: boolean }) {
  const { put, readOnly } = useAround();
  const { problems } = useFound();
  const found = problemsAt(problems, path, exact);
  if (found.length === 0) return null;
  return (
    <ul className="problems">
      {found.map((p, i) => (
        <li key={i} className={p.warning ? 'brass' : 'bad'}>
          {p.unfinished ? <b>○ Not finished: </b> : p.warning ? '△ ' : '✕ '}
          {p.message}
          {p.mend && !readOnly ? (
            <>
              {p.suggestion ? '; did you mean ' : ' '}
              <Button
                size="small"
                className="mend"
                aria-label={`Mend: ${p.mend.words}`}
                onClick={() => put(p.mend!.path, p.mend!.put)}
              >
                {p.mend.words}
              </Button>
              {p.suggestion ? '?' : ''}
            </>
          ) : (
            p.suggestion && (
              <>
                ; did you mean <b>{p.suggestion}</b>?
              </>
            )
          )}
        </li>
      ))}
    </ul>
  );
}
