import type { Question } from '../../api/client';
import { QuestionsEditor } from '../../parts/QuestionsEditor';

const types = [
  'text',
  'long text',
  'email',
  'number',
  'whole number',
  'yes/no',
  'date',
  'moment',
  'choice',
  'choices',
  'link',
];

const questionsIn = (text: string): Question[] => {
  try {
    return text ? (JSON.parse(text) as Question[]) : [];
  } catch {
    return []; // written by hand, and not readable; what is designed here takes its place
  }
};

/** Designs a form: its questions in order, each with its type, help and choices. */
export function FormDesigner({ value, change }: { value: string; change: (text: string) => void }) {
  const questions = questionsIn(value);
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
