import { Input } from 'antd';
import { QuestionsEditor } from '../../../parts/QuestionsEditor';
import { BandLine } from '../../../parts/Band';
import { ProblemsAt } from '../ProblemsAt';
import { useSurroundings } from '../surroundings';
import { SourceSelect } from './SourceSelect';
import type { FormProps } from './WatchBand';

const types = [
  'text',
  'number',
  'whole number',
  'money',
  'yes/no',
  'date',
  'moment',
  'span',
  'choice',
  'choices',
  'person',
  'link',
];

/** A person, who chooses records and answers a few questions first. */
export function StartForm({ watch, set }: FormProps) {
  const { readOnly } = useSurroundings();
  const start = watch.start ?? {};
  const put = (next: Partial<typeof start>) => set({ start: { ...start, ...next } });
  return (
    <>
      <BandLine
        ask={
          <div className="inline">
            <span>for records of</span>
            <SourceSelect optional value={start.source} change={(source) => put({ source })} />
            <Input
              className="confirm-value"
              aria-label="What is asked before it starts"
              placeholder="Asked before it starts, such as: Tell the board?"
              value={start.confirm ?? ''}
              readOnly={readOnly}
              onChange={(e) => put({ confirm: e.target.value || undefined })}
            />
            <ProblemsAt path="watch.start" />
          </div>
        }
        proof={<span className="muted">as if it were started for this record</span>}
      />
      <BandLine
        className="depth-1"
        ask={
          <QuestionsEditor
            named
            questions={start.ask ?? []}
            types={types}
            readOnly={readOnly}
            change={(ask) => put({ ask })}
          />
        }
      />
    </>
  );
}

/** A call over HTTP, with what it takes. */
export function CalledForm({ watch, set }: FormProps) {
  const { readOnly } = useSurroundings();
  return (
    <BandLine
      ask={
        <>
          <p className="muted">A call by HTTP or by another program gives:</p>
          <QuestionsEditor
            named
            questions={watch.called?.takes ?? []}
            types={types}
            readOnly={readOnly}
            change={(takes) => set({ called: { takes } })}
          />
          <ProblemsAt path="watch.called" />
        </>
      }
      proof={<span className="muted">Its address and its token stand under “Start…” once it is on.</span>}
    />
  );
}
