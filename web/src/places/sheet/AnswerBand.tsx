import './sheet.css';
import { Button, Input, InputNumber } from 'antd';
import { memo, useState } from 'react';
import type { ProofLines } from '../../api/client';
import { RemoveButton } from '../../parts/RemoveButton';
import { Band, BandLine } from '../../parts/Band';
import { ProblemsAt } from './ProblemsAt';
import { filled, formOf, type Sheet } from './model';
import { useSurroundings } from './surroundings';
import { Values } from './Values';

interface Props {
  sheet: Sheet;
  change: (next: Partial<Sheet>) => void;
  proof: ProofLines | undefined;
}

type Answer = NonNullable<Sheet['answer']>;

const isObject = (v: unknown): v is Record<string, unknown> =>
  typeof v === 'object' && v !== null && !Array.isArray(v);

/** What a caller is answered who waits: its status and its body, beside what this one would get. */
export const AnswerBand = memo(function AnswerBand({ sheet, change, proof }: Props) {
  const { readOnly } = useSurroundings();
  const answer = sheet.answer;
  if (formOf(sheet.watch) !== 'called' && !answer) return null;
  if (!answer && readOnly) return null;
  const set = (next: Answer | undefined) => change({ answer: next });
  return (
    <Band label="Answer" hint="what the caller hears">
      <BandLine
        ask={
          answer ? (
            <>
              <div className="inline">
                <span>status</span>
                <InputNumber
                  size="small"
                  aria-label="Status of the answer"
                  min={200}
                  max={599}
                  placeholder="200"
                  value={answer.status}
                  disabled={readOnly}
                  onChange={(status) => set(filled(answer, { status: status ?? undefined }))}
                />
                <span className="muted small">
                  for whoever calls with ?wait=10s; <code>outcome</code> is what the workflow decided
                </span>
                {!readOnly && <RemoveButton label="Do not answer the caller" remove={() => set(undefined)} />}
              </div>
              {answer.body === undefined || isObject(answer.body) ? (
                <Values
                  values={answer.body ?? {}}
                  of="the answer"
                  names={[]}
                  change={(body) => set({ ...answer, body })}
                />
              ) : (
                <Whole body={answer.body} change={(body) => set({ ...answer, body })} />
              )}
              <ProblemsAt path="answer" />
            </>
          ) : (
            <Button
              type="link"
              size="small"
              className="add"
              onClick={() => set({ body: { outcome: '${outcome}' } })}
            >
              + answer the caller
            </Button>
          )
        }
        proof={
          proof?.answer && (
            <div data-testid="answer">
              <b className={proof.answer.status < 400 ? 'good' : 'bad'}>{proof.answer.status}</b>
              <pre className="sent">{JSON.stringify(proof.answer.body ?? null, null, 2)}</pre>
            </div>
          )
        }
      />
    </Band>
  );
});

/** A body that is no object, as JSON. */
function Whole({ body, change }: { body: unknown; change: (body: unknown) => void }) {
  const { readOnly } = useSurroundings();
  const [text, setText] = useState(JSON.stringify(body));
  const [wrong, setWrong] = useState('');
  return (
    <>
      <Input.TextArea
        className="formula"
        aria-label="Body of the answer, as JSON"
        autoSize
        value={text}
        readOnly={readOnly}
        onChange={(e) => {
          setText(e.target.value);
          try {
            change(JSON.parse(e.target.value));
            setWrong('');
          } catch (e) {
            setWrong(e instanceof Error ? e.message : 'this is not JSON');
          }
        }}
      />
      {wrong && <p className="bad">✕ {wrong}</p>}
    </>
  );
}
