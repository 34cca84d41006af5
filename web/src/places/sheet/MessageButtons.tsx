import { Button, Input, Select } from 'antd';
import { useTeams, useWorkflows } from '../../api/queries';
import { RemoveButton } from '../../parts/RemoveButton';
import { SpanInput } from '../../parts/SpanInput';
import { exchanged, dropped, type ButtonPart } from './model';
import { Pick } from './Pick';
import { useSurroundings } from './surroundings';
import { ChipLine, Values } from './Values';

interface Props {
  buttons: ButtonPart[];
  message: string;
  change: (next: ButtonPart[]) => void;
}

/** What a button may do, with how it begins. */
const does = {
  claim: { label: 'they look after it', fresh: () => ({ claim: true as const }) },
  change: { label: 'the record is changed', fresh: () => ({ change: { set: {} } }) },
  later: { label: 'it is told again later', fresh: () => ({ later: '1h' }) },
  call: { label: 'a workflow is started', fresh: () => ({ call: { workflow: '' } }) },
};
type Does = keyof typeof does;

const doesOf = (b: ButtonPart) => (Object.keys(does) as Does[]).find((k) => k in b) ?? 'claim';

/** The buttons of a message that act. */
export function MessageButtons({ buttons, message, change }: Props) {
  const { readOnly } = useSurroundings();
  return (
    <>
      <span>Buttons</span>
      <div>
        {buttons.map((b, i) => (
          <OneButton
            key={i}
            b={b}
            n={i + 1}
            message={message}
            change={(next) => change(exchanged(buttons, i, next))}
            remove={() => change(dropped(buttons, i))}
          />
        ))}
        {!readOnly && buttons.length < 8 && (
          <Button
            type="link"
            size="small"
            onClick={() => change([...buttons, { text: 'I take it', claim: true }])}
          >
            + button
          </Button>
        )}
      </div>
    </>
  );
}

interface OneProps {
  b: ButtonPart;
  n: number;
  message: string;
  change: (next: ButtonPart) => void;
  remove: () => void;
}

function OneButton({ b, n, message, change, remove }: OneProps) {
  const { readOnly, fields } = useSurroundings();
  const teams = useTeams();
  const workflows = useWorkflows();
  const way = doesOf(b);
  const of = `button ${n} of ${message}`;
  const names = fields.map((f) => ({ value: f.name, label: f.label }));
  const who = b.who ?? '';
  const team = who.startsWith('team:');
  return (
    <div className="buttonpart">
      <div className="inline">
        <Input
          className="side-select"
          aria-label={`Words of ${of}`}
          value={b.text}
          readOnly={readOnly}
          onChange={(e) => change({ ...b, text: e.target.value })}
        />
        <span className="muted">pressed,</span>
        <Pick
          label={`What ${of} does`}
          value={way}
          options={(Object.keys(does) as Does[]).map((value) => ({ value, label: does[value].label }))}
          change={(k) => change({ text: b.text, ...(b.who && { who: b.who }), ...does[k].fresh() })}
        />
        {way === 'later' && (
          <SpanInput
            label={`After how long ${of} tells it again`}
            value={b.later ?? ''}
            readOnly={readOnly}
            change={(later) => change({ ...b, later })}
          />
        )}
        {way === 'call' && (
          <Select
            className="wide-select"
            aria-label={`Workflow started by ${of}`}
            disabled={readOnly}
            value={b.call?.workflow || undefined}
            placeholder="Choose a workflow"
            options={(workflows.data?.items ?? [])
              .filter((w) => w.form === 'called')
              .map((w) => ({ value: w.name, label: w.name }))}
            onChange={(workflow: string) => change({ ...b, call: { ...b.call, workflow } })}
          />
        )}
        <span className="muted">by</span>
        <Pick
          label={`Who may press ${of}`}
          value={who === '' ? '' : team ? who : 'person'}
          options={[
            { value: '', label: 'whoever reads it' },
            ...(teams.data?.items ?? []).map((t) => ({
              value: `team:${t.name}`,
              label: `the team ${t.name}`,
            })),
            { value: 'person', label: 'one person' },
          ]}
          change={(v: string) => {
            change({ ...b, who: v === 'person' ? '${record.owner}' : v || undefined });
          }}
        />
        {who !== '' && !team && (
          <ChipLine
            id={`who-${message}-${n}`}
            label={`The person who may press ${of}`}
            value={who}
            change={(v) => change({ ...b, who: v })}
          />
        )}
        {!readOnly && <RemoveButton label={`Remove ${of}`} remove={remove} />}
      </div>
      {way === 'change' && (
        <Values
          values={b.change?.set ?? {}}
          of={of}
          names={names}
          change={(set) => change({ ...b, change: { set } })}
        />
      )}
      {way === 'call' && (
        <Values
          values={(b.call?.with as Record<string, unknown>) ?? {}}
          of={of}
          names={[]}
          change={(next) => change({ ...b, call: { workflow: b.call?.workflow ?? '', with: next } })}
        />
      )}
    </div>
  );
}
