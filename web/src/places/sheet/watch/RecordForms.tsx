import { Select } from 'antd';
import { fullOf } from '../../../parts/times';
import { SpanInput } from '../../../parts/SpanInput';
import { BandLine } from '../../../parts/Band';
import { ProblemsAt } from '../ProblemsAt';
import { AddCondition, Condition } from '../Condition';
import { withTest } from '../model';
import { useSurroundings } from '../surroundings';
import { SourceSelect } from './SourceSelect';
import type { FormProps } from './WatchBand';

/** A moment before, at or after a field's own. */
export function DueForm({ watch, set, proof }: FormProps) {
  const { fields, readOnly } = useSurroundings();
  const due = watch.due ?? { field: '' };
  const offset = due.offset ?? '';
  const before = offset.startsWith('-');
  const side = offset === '' || /^[-+]?0/.test(offset) ? 'at' : before ? 'before' : 'after';
  const span = offset.replace(/^[-+]/, '');
  const put = (next: Partial<typeof due>) => set({ ...watch, due: { ...due, ...next } });
  const times = fields.filter((f) => f.type === 'date' || f.type === 'moment');
  const known = times.some((f) => f.name === due.field);
  return (
    <BandLine
      ask={
        <div className="inline">
          <SourceSelect value={watch.source} change={(source) => set({ ...watch, source: source ?? '' })} />
          {side !== 'at' && (
            <SpanInput
              label="How long"
              value={span}
              readOnly={readOnly}
              change={(v) => put({ offset: side === 'before' ? `-${v}` : v })}
            />
          )}
          <Select
            className="side-select"
            aria-label="Before, at or after"
            disabled={readOnly}
            value={side}
            options={['before', 'at', 'after'].map((s) => ({ value: s, label: s }))}
            onChange={(s: string) =>
              put({ offset: s === 'at' ? undefined : (s === 'before' ? '-' : '') + (span || '2h') })
            }
          />
          <Select
            className="field-select"
            aria-label="The field that falls due"
            disabled={readOnly}
            popupMatchSelectWidth={false}
            value={due.field || undefined}
            options={[
              ...times.map((f) => ({ value: f.name, label: f.label })),
              ...(known || !due.field ? [] : [{ value: due.field, label: due.field }]),
            ]}
            onChange={(field: string) => put({ field })}
          />
          <ProblemsAt path="watch.due" />
          <ProblemsAt path="watch.source" />
        </div>
      }
      proof={proof && <span className="muted">due {fullOf(proof.at)}</span>}
    />
  );
}

/** A state that holds for too long, without a break. */
export function LastsForm({ watch, set, proof }: FormProps) {
  const { readOnly } = useSurroundings();
  const lasts = watch.lasts ?? { that: {}, for: '45m' };
  const put = (next: Partial<typeof lasts>) => set({ ...watch, lasts: { ...lasts, ...next } });
  return (
    <>
      <BandLine
        ask={
          <div className="inline">
            <SourceSelect value={watch.source} change={(source) => set({ ...watch, source: source ?? '' })} />
            <span>for</span>
            <SpanInput
              label="For how long"
              value={lasts.for}
              readOnly={readOnly}
              change={(v) => put({ for: v })}
            />
            <span>without a break</span>
            {!readOnly && <AddCondition add={(test) => put({ that: withTest(lasts.that, test) })} />}
            <ProblemsAt path="watch.lasts" exact />
            <ProblemsAt path="watch.lasts.for" />
            <ProblemsAt path="watch.source" />
          </div>
        }
        proof={proof && <span className="muted">as it would be {fullOf(proof.at)}</span>}
      />
      {Object.keys(lasts.that).length > 0 && (
        <Condition
          cond={lasts.that}
          path="watch.lasts.that"
          line={proof?.that ?? undefined}
          change={(that) => put({ that: that ?? {} })}
          lead="that"
        />
      )}
    </>
  );
}
