import { Button, Dropdown, Select, Space } from 'antd';
import type { Line } from '../../api/client';
import { FormulaInput } from './FormulaInput';
import { BandLine } from '../../parts/Band';
import { ProblemsAt } from './ProblemsAt';
import { useLatest } from '../../parts/useLatest';
import { TestEditor } from './TestEditor';
import {
  groupKinds,
  groupOf,
  isFormula,
  partsOf,
  withPart,
  withTest,
  type Cond,
  type GroupKind,
} from './model';
import { useSurroundings, useFound } from './surroundings';
import { conditionWords, placeWords } from './placeWords';
import { RemoveButton } from '../../parts/RemoveButton';

const groupWords: Record<GroupKind, string> = { all: 'all of', any: 'at least one of', none: 'none of' };

/** What people may have done with an alert, which what follows on it can ask for; "" for any other condition. */
const happenedWords = (c: Cond) => {
  const { claimed, answered } = c as { claimed?: boolean; answered?: boolean };
  if (claimed !== undefined) return claimed ? 'somebody takes it' : 'nobody takes it';
  if (answered !== undefined) return answered ? 'somebody answers' : 'nobody answers';
  return '';
};

interface Props {
  cond: Cond;
  path: string;
  line: Line | undefined;
  change: (next: Cond | undefined) => void;
  depth?: number;
  lead?: string;
}

/** A condition with what the chosen arrival makes of it: a test, a formula, or a group of such. */
export function Condition(props: Props) {
  const { cond, path, line, change, depth = 0, lead } = props;
  const { readOnly } = useSurroundings();
  const { seen } = useFound();
  const latest = useLatest(change);
  const kind = groupOf(cond);
  if (kind) return <Group {...props} kind={kind} />;
  const remove = !readOnly && (
    <RemoveButton label={`Remove ${conditionWords(path)}`} remove={() => change(undefined)} />
  );
  return (
    <BandLine
      className={`depth-${Math.min(depth, 5)}`}
      ask={
        <div className="inline">
          {lead && <span className="lead-word">{lead}</span>}
          {happenedWords(cond) ? (
            <span>{happenedWords(cond)}</span>
          ) : isFormula(cond) ? (
            <FormulaInput
              label={`Formula of ${placeWords(path)}`}
              path={path}
              value={String(cond.formula)}
              change={(formula) => change({ formula })}
            />
          ) : (
            <TestEditor cond={cond} path={path} change={latest} seen={seen[String(cond.field)]} />
          )}
          {remove}
          <ProblemsAt path={path} />
        </div>
      }
      proof={<ConditionProof line={line} path={path} />}
    />
  );
}

function Group({ cond, path, line, change, depth = 0, lead, kind }: Props & { kind: GroupKind }) {
  const { readOnly } = useSurroundings();
  return (
    <>
      <BandLine
        className={`depth-${Math.min(depth, 5)}`}
        ask={
          <div className="inline">
            {lead && <span className="lead-word">{lead}</span>}
            <Select
              className="group-select"
              aria-label={`How the conditions of ${placeWords(path)} are joined`}
              disabled={readOnly}
              value={kind}
              options={groupKinds.map((k) => ({ value: k, label: groupWords[k] }))}
              onChange={(k) => change({ [k]: partsOf(cond) })}
            />
            {!readOnly && <AddCondition add={(test) => change(withTest(cond, test))} />}
            {!readOnly && (
              <RemoveButton
                label={`Remove the group of ${placeWords(path)}`}
                remove={() => change(undefined)}
              />
            )}
            <ProblemsAt path={path} exact />
          </div>
        }
        proof={<ConditionProof line={line} path={path} />}
      />
      {partsOf(cond).map((part, i) => (
        <Condition
          key={i}
          cond={part}
          path={`${path}.${kind}[${i}]`}
          line={line?.parts?.[i]}
          change={(next) => change(withPart(cond, i, next))}
          depth={depth + 1}
        />
      ))}
    </>
  );
}

/** Adds a test, a formula or a group. */
export function AddCondition({ add, label = '+ condition' }: { add: (test: Cond) => void; label?: string }) {
  const { fields } = useSurroundings();
  const first = fields.find((f) => f.name === 'status')?.name ?? fields[0]?.name ?? 'id';
  const test = { field: first, is: '' };
  return (
    <Space.Compact size="small">
      <Button type="link" className="add" onClick={() => add(test)}>
        {label}
      </Button>
      <Dropdown
        trigger={['click']}
        menu={{
          items: [
            {
              key: 'formula',
              label: 'A formula',
              onClick: () => add({ formula: 'record.' + first + ' != ""' }),
            },
            { key: 'any', label: 'At least one of …', onClick: () => add({ any: [test] }) },
            { key: 'all', label: 'All of …', onClick: () => add({ all: [test] }) },
            { key: 'none', label: 'None of …', onClick: () => add({ none: [test] }) },
          ],
        }}
      >
        <Button type="link" aria-label={`${label}: other kinds`}>
          ⋯
        </Button>
      </Dropdown>
    </Space.Compact>
  );
}

/** What a condition makes of the chosen arrival: yes or no, and the values it saw; and how many of the trail it lets through. */
export function ConditionProof({ line, path }: { line: Line | undefined; path?: string }) {
  const count = useFound().counts[path ?? ''];
  if (!line) return null;
  const yes = line.result === 'true';
  return (
    <span className="seen">
      <span className={line.error ? 'bad' : yes ? 'good' : 'no'}>
        {line.error ? '✕ failed' : yes ? '✓ yes' : '✗ no'}
      </span>
      {line.error && <span className="bad">{line.error}</span>}
      {!line.error && line.was !== undefined && line.was !== line.seen && (
        <span>
          <s>{line.was}</s> → <b>{line.seen}</b>
        </span>
      )}
      {!line.error && line.seen && (line.was === undefined || line.was === line.seen) && <b>{line.seen}</b>}
      {count && count.of > 0 && (
        <span className="muted tally" title={`Of the trail, ${count.of} get as far as this line`}>
          {count.yes} of {count.of}
        </span>
      )}
    </span>
  );
}
