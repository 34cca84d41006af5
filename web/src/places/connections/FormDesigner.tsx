import type { Question } from '../../api/client';
import { QuestionsEditor } from '../../parts/QuestionsEditor';

const types = ['text', 'long text', 'email', 'number', 'yes/no', 'date', 'moment', 'choice', 'choices', 'link'];

/** Designs a form: its questions in order, each with its type, help and choices. */
export function FormDesigner({ value, change }: { value: string; change: (text: string) => void }) {
  let questions: Question[] = [];
  try {
    questions = value ? (JSON.parse(value) as Question[]) : [];
  } catch {
    questions = [];
  }
  return (
    <fieldset className="designer">
      <legend>Questions</legend>
      <QuestionsEditor
        questions={questions}
        types={types}
        named={false}
        change={(next) => change(JSON.stringify(next))}
      />
      {questions.length === 0 && <p className="muted">A form without questions asks nothing yet.</p>}
    </fieldset>
  );
}
