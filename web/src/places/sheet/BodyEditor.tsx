import { Button, Input } from 'antd';
import { useState } from 'react';
import { useSurroundings } from './surroundings';
import { Values } from './Values';

interface Props {
  /** Whose body it is. */
  of: string;
  body: unknown;
  change: (next: unknown) => void;
}

const isFlat = (v: unknown): v is Record<string, unknown> =>
  v === undefined ||
  (typeof v === 'object' &&
    v !== null &&
    !Array.isArray(v) &&
    Object.values(v).every((e) => typeof e !== 'object' || e === null));

/** A body as names with their values, or as JSON where it holds more than that. Formulas may stand in every text. */
export function BodyEditor({ of, body, change }: Props) {
  const { readOnly } = useSurroundings();
  const [asJSON, setAsJSON] = useState(!isFlat(body));
  const [text, setText] = useState(() => (body === undefined ? '{}' : JSON.stringify(body, null, 2)));
  const [wrong, setWrong] = useState('');
  const typed = (next: string) => {
    setText(next);
    try {
      change(next.trim() ? (JSON.parse(next) as unknown) : undefined);
      setWrong('');
    } catch (e) {
      setWrong(e instanceof Error ? e.message : 'This is no JSON.');
    }
  };
  const turn = () => {
    setText(JSON.stringify(body ?? {}, null, 2));
    setWrong('');
    setAsJSON(!asJSON);
  };
  return (
    <div className="bodyeditor">
      {asJSON ? (
        <>
          <Input.TextArea
            className="mono"
            aria-label={`Body that ${of} sends, as JSON`}
            autoSize={{ minRows: 3, maxRows: 14 }}
            value={text}
            readOnly={readOnly}
            spellCheck={false}
            onChange={(e) => typed(e.target.value)}
          />
          {wrong && <p className="bad">✕ It is kept once it is JSON: {wrong}</p>}
        </>
      ) : (
        <Values
          values={(body ?? {}) as Record<string, unknown>}
          of={`the body of ${of}`}
          names={[]}
          change={(next) => change(Object.keys(next).length ? next : undefined)}
        />
      )}
      {!readOnly && isFlat(body) && (
        <Button type="link" size="small" onClick={turn}>
          {asJSON ? 'as names and values' : 'as JSON'}
        </Button>
      )}
    </div>
  );
}
