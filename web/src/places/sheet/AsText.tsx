import { Input } from 'antd';
import type { Problem } from '../../api/client';
import { useSurroundings } from './surroundings';

interface Props {
  text: string;
  edit: (text: string) => void;
  problems: Problem[];
}

/** The sheet as text, with everything that is wrong by line and column. */
export function AsText({ text, edit, problems }: Props) {
  const { readOnly } = useSurroundings();
  return (
    <section className="astext">
      <Input.TextArea
        aria-label="The sheet as text"
        className="mono"
        autoSize={{ minRows: 24 }}
        spellCheck={false}
        value={text}
        readOnly={readOnly}
        onChange={(e) => edit(e.target.value)}
      />
      <div aria-live="polite">
        {problems.length === 0 && <p className="good">✓ Nothing is wrong with it.</p>}
        <ul className="plainlist">
          {problems.map((p, i) => (
            <li key={i} className={p.warning ? 'brass' : 'bad'}>
              {p.unfinished && <b>Not finished: </b>}
              Line {p.at.line}, column {p.at.column}: {p.message}
              {p.suggestion && (
                <>
                  ; did you mean <b>{p.suggestion}</b>?
                </>
              )}
            </li>
          ))}
        </ul>
      </div>
    </section>
  );
}
