import { Button, Checkbox, Input, Select } from 'antd';
import { RemoveButton } from './RemoveButton';
import { Several } from './Several';

/** A question of a form or of a workflow's start, as it is being written. */
interface Asked {
  name: string;
  label?: string;
  type?: string;
  required?: boolean;
  options?: string[] | null;
  help?: string;
}

interface Props<Q extends Asked> {
  questions: Q[];
  types: string[];
  /** Whether each question's name is shown, by which formulas call its answer. */
  named: boolean;
  change: (next: Q[]) => void;
  readOnly?: boolean;
}

const nameOf = (label: string) =>
  label
    .toLowerCase()
    .normalize('NFD')
    .replace(/\p{M}/gu, '')
    .replace(/[^a-z0-9]+/g, '_')
    .replace(/^_+|_+$/g, '')
    .replace(/^(\d)/, 'q_$1')
    .slice(0, 40);

/** Questions in order: text, type, choices, whether each must be answered. */
export function QuestionsEditor<Q extends Asked>({ questions, types, named, change, readOnly }: Props<Q>) {
  const set = (i: number, next: Partial<Asked>) =>
    change(questions.map((q, n) => (n === i ? { ...q, ...next } : q)));
  const move = (i: number, by: number) => {
    const list = [...questions];
    const [q] = list.splice(i, 1);
    list.splice(i + by, 0, q!);
    change(list);
  };
  const add = () => {
    let name = 'question';
    for (let n = 2; questions.some((q) => q.name === name); n++) name = `question_${n}`;
    change([...questions, { name, label: '', type: 'text' } as Q]);
  };
  return (
    <div className="questions">
      {questions.map((q, i) => (
        <div key={i} className="question">
          <Input
            className="question-label"
            aria-label={`Question ${i + 1}`}
            placeholder="The question"
            value={q.label}
            readOnly={readOnly}
            onChange={(e) => {
              const follows = q.name === nameOf(q.label ?? '') || q.name.startsWith('question');
              set(i, { label: e.target.value, ...(follows && { name: nameOf(e.target.value) || q.name }) });
            }}
          />
          <Select
            className="question-type"
            aria-label={`Type of question ${i + 1}`}
            value={q.type}
            disabled={readOnly}
            options={types.map((t) => ({ value: t, label: t }))}
            onChange={(type: string) =>
              set(i, { type, options: type.startsWith('choice') ? (q.options ?? ['Yes', 'No']) : undefined })
            }
          />
          {q.type?.startsWith('choice') && (
            <Several
              typed
              className="question-options"
              aria-label={`Choices of question ${i + 1}`}
              value={q.options ?? []}
              disabled={readOnly}
              open={false}
              suffix={null}
              placeholder="choices, each with Enter"
              onChange={(options: string[]) => set(i, { options })}
            />
          )}
          <Checkbox
            checked={q.required === true}
            disabled={readOnly}
            onChange={(e) => set(i, { required: e.target.checked || undefined })}
          >
            required
          </Checkbox>
          {!readOnly && (
            <span className="question-acts">
              <Button
                type="text"
                size="small"
                aria-label={`Move question ${i + 1} up`}
                disabled={i === 0}
                onClick={() => move(i, -1)}
              >
                ↑
              </Button>
              <Button
                type="text"
                size="small"
                aria-label={`Move question ${i + 1} down`}
                disabled={i === questions.length - 1}
                onClick={() => move(i, 1)}
              >
                ↓
              </Button>
              <RemoveButton
                label={`Remove question ${i + 1}`}
                remove={() => change(questions.filter((_, n) => n !== i))}
              />
            </span>
          )}
          <Input
            className="question-help"
            size="small"
            variant="borderless"
            aria-label={`Help for question ${i + 1}`}
            placeholder="a word of help, if wanted"
            value={q.help ?? ''}
            readOnly={readOnly}
            onChange={(e) => set(i, { help: e.target.value || undefined })}
          />
          {named && (
            <span className="muted small">
              in formulas: <span className="mono">answers.{q.name}</span>
            </span>
          )}
        </div>
      ))}
      {!readOnly && (
        <Button size="small" onClick={add}>
          + question
        </Button>
      )}
    </div>
  );
}
