import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Button, Input } from 'antd';
import { useEffect, useState } from 'react';
import { api, answerOf, type Schemas } from '../../api/client';
import { useWords } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';

type Reading = Schemas['Reading'];

const REST = 150;
/** An example in the words of the practice apps; without them, nothing here would understand it. */
const example =
  'tell #lab when a sample is blocked in the Upper valley, at once; over 10 samples a day to #board';

/** A sentence, with how each word of it was read, and questions about what was not. */
export function Sentence({ make }: { make: (sheet: unknown) => Promise<void> }) {
  const practice = useWords().data?.practice ?? false;
  const [text, setText] = useState('');
  const [settled, setSettled] = useState('');
  const [waived, setWaived] = useState<string[]>([]);
  useEffect(() => {
    const t = window.setTimeout(() => setSettled(text), REST);
    return () => window.clearTimeout(t);
  }, [text]);
  const reading = useQuery({
    queryKey: ['sentence', settled, waived],
    enabled: settled.trim() !== '',
    queryFn: ({ signal }) => answerOf(api.POST('/api/sentence', { body: { text: settled, waived }, signal })),
    placeholderData: keepPreviousData,
  });
  const r = settled.trim() ? reading.data : undefined;
  const answer = (q: Schemas['Doubt'], choice: string) =>
    setText(q.about ? text.replace(q.about, choice) : `${text.replace(/[\s.;]+$/, '')} ${choice}`.trim());
  return (
    <section className="band">
      <h2 className="band-label">A sentence</h2>
      <div className="sentence">
        <Input.TextArea
          aria-label="What should be told, to whom, when"
          autoSize={{ minRows: 2, maxRows: 6 }}
          placeholder={practice ? example : 'Say what should be told, to whom and when'}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        {!text && practice && (
          <Button type="link" size="small" onClick={() => setText(example)}>
            Try this one
          </Button>
        )}
        {reading.error && <Trouble error={reading.error} again={() => void reading.refetch()} />}
        {r && (
          <Read
            reading={r}
            answer={answer}
            waive={(q) => setWaived([...waived, q.about || q.ask])}
            waived={waived.filter((w) => settled.includes(w) || w.endsWith('?'))}
            ask={(about) => setWaived(waived.filter((w) => w !== about))}
          />
        )}
        <Button
          type="primary"
          disabled={!r?.sheet || text !== settled}
          onClick={() => r?.sheet && void make(r.sheet)}
        >
          Draft the sheet
        </Button>
        {r && !r.sheet && (
          <span className="muted"> It is drafted once every question is answered or left out.</span>
        )}
      </div>
    </section>
  );
}

interface ReadProps {
  reading: Reading;
  answer: (q: Schemas['Doubt'], choice: string) => void;
  waive: (q: Schemas['Doubt']) => void;
  waived: string[];
  ask: (about: string) => void;
}

function Read({ reading, answer, waive, waived, ask }: ReadProps) {
  return (
    <>
      <ol className="readwords" aria-label="How each word was read">
        {(reading.words ?? []).map((w, i) => (
          <li key={i} className={`read-${w.as.replace(' ', '-')}`}>
            <b>{w.text}</b>
            <small>{w.as === 'filler' || w.as === 'word' ? ' ' : w.means || w.as}</small>
          </li>
        ))}
      </ol>
      {(reading.says ?? []).length > 0 && (
        <section className="readback" aria-label="What the drafted sheet does">
          <h3>What this does</h3>
          <ol>
            {(reading.says ?? []).map((s) => (
              <li key={s}>{s}</li>
            ))}
          </ol>
        </section>
      )}
      {(reading.questions ?? []).map((q) => (
        <p key={q.ask} className="question">
          <span className="brass">△ {q.ask}</span>{' '}
          {(q.choices ?? []).map((c) => (
            <Button key={c} size="small" onClick={() => answer(q, c)}>
              {c}
            </Button>
          ))}
          {q.waives && (
            <Button type="text" size="small" onClick={() => waive(q)}>
              Leave it out
            </Button>
          )}
        </p>
      ))}
      {waived.map((w) => (
        <p key={w} className="muted">
          Left out: “{w}”{' '}
          <Button type="text" size="small" onClick={() => ask(w)}>
            Ask again
          </Button>
        </p>
      ))}
      {reading.questions?.length === 0 && waived.length === 0 && (
        <p className="good">✓ Every word was understood.</p>
      )}
    </>
  );
}
