import './sheet.css';
import { Button, Dropdown, Select } from 'antd';
import { memo, useMemo } from 'react';
import type { ProofLines } from '../../api/client';
import { useFields, useStarters, useWorkflows } from '../../api/queries';
import { Band, BandLine } from '../../parts/Band';
import { ProblemsAt } from './ProblemsAt';
import { AddCondition, Condition } from './Condition';
import { EscalateStep } from './EscalateStep';
import { Fails } from './Fails';
import { counted } from '../../parts/counted';
import { Pick } from './Pick';
import { withTest, type FollowStep, type Sheet, exchanged, dropped, filled } from './model';
import { useSurroundings } from './surroundings';
import { ChipLine, Values } from './Values';
import { SourceSelect } from './watch/SourceSelect';
import { placeWords } from './placeWords';
import { RemoveButton } from '../../parts/RemoveButton';

interface Props {
  sheet: Sheet;
  change: (next: Partial<Sheet>) => void;
  proof: ProofLines | undefined;
}

/** What follows once the posts are delivered: records that are added or changed, other workflows that are called. */
export const FollowBand = memo(function FollowBand({ sheet, change, proof }: Props) {
  const { readOnly, keyField } = useSurroundings();
  const { source: first, channel } = useStarters();
  const source = sheet.watch?.source ?? first;
  const list = sheet.follow ?? [];
  if (readOnly && list.length === 0) return null;
  const set = (next: FollowStep[]) => change({ follow: next.length ? next : undefined });
  const add = (s: FollowStep) => set([...list, s]);
  return (
    <Band label="Follow up" hint="once it is told">
      {list.map((s, i) =>
        s.tell || s.unless ? (
          <EscalateStep
            key={i}
            s={s}
            path={`follow[${i}]`}
            proof={proof?.follow?.find((p) => p.path === `follow[${i}]`)}
            change={(next) => set(exchanged(list, i, next))}
            remove={() => set(dropped(list, i))}
          />
        ) : (
          <Step
            key={i}
            s={s}
            path={`follow[${i}]`}
            sheet={sheet}
            proof={proof?.follow?.find((p) => p.path === `follow[${i}]`)}
            change={(next) => set(exchanged(list, i, next))}
            remove={() => set(dropped(list, i))}
          />
        ),
      )}
      {!readOnly && (
        <BandLine
          ask={
            <Dropdown
              trigger={['click']}
              menu={{
                items: [
                  {
                    key: 'change',
                    label: 'Change the record',
                    onClick: () => add({ change: { source, key: `\${record.${keyField}}`, set: {} } }),
                  },
                  {
                    key: 'add',
                    label: 'Add a record, or a row to a table',
                    onClick: () => add({ add: { source: first, set: {} } }),
                  },
                  {
                    key: 'call',
                    label: 'Call another workflow',
                    onClick: () => add({ call: { workflow: '' } }),
                  },
                  {
                    key: 'tell',
                    label: 'Tell others unless somebody takes it in time',
                    onClick: () => change(withEscalation(sheet, channel)),
                  },
                ],
              }}
            >
              <Button type="link" size="small" className="add">
                + follow up
              </Button>
            </Dropdown>
          }
        />
      )}
    </Band>
  );
});

/**
 * The sheet with a step that tells others where nobody takes the alert; what it tells has a button to take it, unless there is
 * one.
 */
export function withEscalation(sheet: Sheet, channel: string): Partial<Sheet> {
  const messages = { ...sheet.messages };
  const told = [
    ...(sheet.route.rows ?? []).flatMap((r) => r.tell),
    ...(sheet.route.otherwise?.tell ?? []),
  ].map((t) => t.message);
  for (const name of new Set(told)) {
    const m = messages[name];
    if (m && !(m.buttons ?? []).some((b) => 'claim' in b))
      messages[name] = { ...m, buttons: [...(m.buttons ?? []), { text: 'I take it', claim: true }] };
  }
  const step: FollowStep = {
    unless: { claimed: true, within: '15m' } as FollowStep['unless'],
    tell: [{ to: channel, message: told[0] ?? Object.keys(messages)[0] ?? 'alert' }],
  };
  return { follow: [...(sheet.follow ?? []), step], messages };
}

/** What a step's failure may lead to. */
const followFails = { stop: 'nothing more follows', go_on: 'go on with the rest' };

interface StepProps {
  s: FollowStep;
  path: string;
  sheet: Sheet;
  proof: NonNullable<ProofLines['follow']>[number] | undefined;
  change: (next: FollowStep) => void;
  remove: () => void;
}

function Step({ s, path, sheet, proof, change, remove }: StepProps) {
  const { readOnly } = useSurroundings();
  const does = s.change ? 'change' : s.add ? 'add' : 'call';
  const when = s.when && Object.keys(s.when).length > 0 ? s.when : undefined;
  return (
    <>
      <BandLine
        className="followline"
        ask={
          <>
            {does === 'call' ? (
              <CallStep s={s} path={path} change={change} own={sheet.name} />
            ) : (
              <RecordStep s={s} path={path} change={change} />
            )}
            <div className="inline muted">
              <Fails
                value={s.if_fails}
                path={path}
                ways={followFails}
                change={(if_fails) => change({ ...s, if_fails })}
              />
              {!readOnly && !when && (
                <AddCondition
                  label="+ only when"
                  add={(test) => change({ ...s, when: withTest(undefined, test) })}
                />
              )}
              {!readOnly && <RemoveButton label={`Remove ${placeWords(path)}`} remove={remove} />}
            </div>
            <ProblemsAt path={path} exact />
            <ProblemsAt path={`${path}.${does}`} />
          </>
        }
        proof={proof && <StepProof proof={proof} />}
      />
      {when && (
        <Condition
          cond={when}
          path={`${path}.when`}
          line={proof?.line ?? undefined}
          change={(next) => change({ ...s, when: next })}
          lead="only when"
          depth={1}
        />
      )}
    </>
  );
}

function StepProof({ proof: p }: { proof: StepProps['proof'] & object }) {
  return (
    <span className="seen">
      {p.error ? (
        <span className="bad">✕ {p.error}</span>
      ) : (
        <>
          <b className={p.taken ? 'good' : 'muted'}>{p.taken ? '● follows' : '– does not follow'}</b>
          {(p.count ?? 0) > 0 && <b>{counted(p.count!, 'record')}; the first:</b>}
          {p.key && <b>{p.key}</b>}
          <ul className="follow-set">
            {(p.set ?? []).map((f) => (
              <li key={f.field}>
                <span className="muted">{f.field}</span> {f.value || <span className="muted">(empty)</span>}
              </li>
            ))}
          </ul>
        </>
      )}
    </span>
  );
}

function CallStep({ s, path, change, own }: Pick<StepProps, 's' | 'path' | 'change'> & { own: string }) {
  const { readOnly } = useSurroundings();
  const workflows = useWorkflows();
  const callable = (workflows.data?.items ?? []).filter((w) => w.form === 'called' && w.name !== own);
  const call = s.call!;
  return (
    <>
      <div className="inline">
        <span>call</span>
        <Select
          className="wide-select"
          aria-label={`Workflow called by ${placeWords(path)}`}
          disabled={readOnly}
          value={call.workflow || undefined}
          placeholder={callable.length ? 'Choose a workflow' : 'none is started by a call'}
          options={callable.map((w) => ({ value: w.name, label: w.name }))}
          onChange={(workflow: string) => change({ ...s, call: { ...call, workflow } })}
        />
        <span>with</span>
      </div>
      <Values
        values={call.with ?? {}}
        of={path}
        names={[]}
        change={(next) => change({ ...s, call: { ...call, with: next } })}
      />
    </>
  );
}

function RecordStep({ s, path, change }: Pick<StepProps, 's' | 'path' | 'change'>) {
  const way = s.change ?? s.add!;
  const put = (next: Partial<NonNullable<FollowStep['change']>>) =>
    change(s.change ? { ...s, change: { ...s.change, ...next } } : { ...s, add: { ...s.add!, ...next } });
  const known = useFields(way.source).data?.items;
  const { gathered, fields } = useSurroundings();
  const eachOf = /^\$\{(.*)\}$/.exec(s.add?.each ?? '')?.[1] ?? '';
  const lists = gathered.filter((g) => g.many || g.open).map((g) => g.name);
  const names = useMemo(() => (known ?? []).map((f) => ({ value: f.name, label: f.label })), [known]);
  const same = useMemo(
    () =>
      s.add
        ? alike(
            eachOf ? (gathered.find((g) => g.name === eachOf)?.fields ?? []) : fields,
            eachOf ? 'it' : 'record',
          )
        : {},
    [s.add, eachOf, gathered, fields],
  );
  return (
    <>
      <div className="inline">
        <span>{s.change ? 'change in' : 'add to'}</span>
        <SourceSelect
          label={`Source of ${placeWords(path)}`}
          value={way.source}
          change={(source) => put({ source: source ?? '' })}
        />
        {s.add && (eachOf !== '' || lists.length > 0) && (
          <Pick
            label={`How many records ${placeWords(path)} adds`}
            value={eachOf}
            options={[
              { value: '', label: 'one record' },
              ...[...new Set([...lists, eachOf])]
                .filter(Boolean)
                .map((l) => ({ value: l, label: `one for each of ${l}` })),
            ]}
            change={(l) => change({ ...s, add: filled(s.add!, { each: l ? `\${${l}}` : undefined }) })}
          />
        )}
        {s.change && (
          <>
            <span>the record</span>
            <ChipLine
              id={`${path}-key`}
              label={`Key of the record changed by ${placeWords(path)}`}
              value={s.change.key}
              change={(key) => put({ key })}
            />
          </>
        )}
      </div>
      <Values values={way.set} of={path} names={names} same={same} change={(set) => put({ set })} />
    </>
  );
}

/** What fields give by their own names: texts, numbers, times, but nothing that has parts. */
const alike = (fields: { name: string; type: string }[], of: string) =>
  Object.fromEntries(
    fields
      .filter((f) => f.type !== 'list' && f.type !== 'object')
      .map((f) => [f.name, `\${${of}.${f.name}}`]),
  );
