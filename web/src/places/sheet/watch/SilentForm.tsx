import './watch.css';
import { Button, Input } from 'antd';
import { SpanInput } from '../../../parts/SpanInput';
import { fullOf } from '../../../parts/times';
import { BandLine } from '../../../parts/Band';
import { ProblemsAt } from '../ProblemsAt';
import { dropped, type Opening } from '../model';
import { useSurroundings } from '../surroundings';
import { SourceSelect } from './SourceSelect';
import type { FormProps } from './WatchBand';
import { RemoveButton } from '../../../parts/RemoveButton';
import { Several } from '../../../parts/Several';

export const weekdays = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'];

/** Something that should have come and did not, counted in opening hours where there are any. */
export function SilentForm({ watch, set, proof }: FormProps) {
  const { readOnly } = useSurroundings();
  const silent = watch.silent ?? { for: '6h' };
  const put = (next: Partial<typeof silent>) => set({ ...watch, silent: { ...silent, ...next } });
  const open = silent.open ?? [];
  const setOpen = (list: Opening[]) => put({ open: list.length ? list : undefined });
  return (
    <>
      <BandLine
        ask={
          <div className="inline">
            <span>nothing from</span>
            <SourceSelect value={watch.source} change={(source) => set({ ...watch, source: source ?? '' })} />
            <span>for</span>
            <SpanInput
              label="For how long"
              value={silent.for}
              readOnly={readOnly}
              change={(v) => put({ for: v })}
            />
            {!readOnly && (
              <Button
                type="link"
                size="small"
                onClick={() => setOpen([...open, { days: weekdays.slice(0, 5), from: '06:00', to: '18:00' }])}
              >
                + opening hours
              </Button>
            )}
            <ProblemsAt path="watch.silent" />
            <ProblemsAt path="watch.source" />
          </div>
        }
        proof={proof && <span className="muted">silent from {fullOf(proof.at)}, if nothing comes</span>}
      />
      <OpeningLines open={open} readOnly={readOnly} change={setOpen} />
    </>
  );
}

interface LinesProps {
  open: Opening[];
  readOnly: boolean;
  change: (next: Opening[]) => void;
}

/** Opening hours, a line for each span of them. */
export function OpeningLines({ open, readOnly, change }: LinesProps) {
  return open.map((o, i) => (
    <BandLine
      key={i}
      className="depth-1"
      ask={
        <OpeningLine
          value={o}
          readOnly={readOnly}
          change={(next) => change(open.map((x, n) => (n === i ? next : x)))}
          remove={() => change(dropped(open, i))}
        />
      }
    />
  ));
}

interface LineProps {
  value: Opening;
  readOnly: boolean;
  change: (next: Opening) => void;
  remove: () => void;
}

/** One span of opening hours. */
function OpeningLine({ value, readOnly, change, remove }: LineProps) {
  return (
    <div className="inline">
      <span className="lead-word">open</span>
      <Several
        className="list-select"
        aria-label="Days"
        disabled={readOnly}
        value={value.days ?? weekdays}
        options={weekdays.map((d) => ({ value: d, label: d }))}
        onChange={(days: string[]) => change({ ...value, days: weekdays.filter((d) => days.includes(d)) })}
      />
      <Input
        className="clock-value"
        aria-label="From"
        value={value.from ?? '00:00'}
        readOnly={readOnly}
        onChange={(e) => change({ ...value, from: e.target.value })}
      />
      <span>to</span>
      <Input
        className="clock-value"
        aria-label="To"
        value={value.to ?? '24:00'}
        readOnly={readOnly}
        onChange={(e) => change({ ...value, to: e.target.value })}
      />
      {!readOnly && <RemoveButton label="Remove these hours" remove={remove} />}
    </div>
  );
}
