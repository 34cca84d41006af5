import { Button } from 'antd';
import { problemsAt, useSurroundings, useFound } from './surroundings';

/** What is wrong at a place on the sheet. */
export function ProblemsAt({ path, exact }: { path: string; exact?: boolean }) {
  const { mend, readOnly } = useSurroundings();
  const { problems, of } = useFound();
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
                onClick={() => mend(p.mend!.path, p.mend!.put, of)}
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
