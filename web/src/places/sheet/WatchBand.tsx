import { Button, Checkbox, Select } from 'antd';
import type { ProofLines } from '../../api/client';
import { useSources } from '../../api/queries';
import { Band, BandLine, ProblemsAt } from './Band';
import { Condition } from './Condition';
import type { Sheet } from './model';
import { useAround } from './surroundings';

const changes = ['created', 'updated', 'removed'];

interface Props {
  sheet: Sheet;
  change: (next: Partial<Sheet>) => void;
  proof: ProofLines | undefined;
}

export function WatchBand({ sheet, change, proof }: Props) {
  const sources = useSources();
  const { fields, readOnly } = useAround();
  const watch = sheet.watch ?? { source: '' };
  const set = (next: Partial<Sheet['watch']>) => change({ watch: { ...watch, ...next } });
  const first = fields.find((f) => f.name === 'status')?.name ?? fields[0]?.name ?? 'id';
  return (
    <Band label="Watch" hint="what starts it">
      <BandLine
        ask={
          <div className="inline">
            <Select
              className="wide-select"
              aria-label="Source"
              showSearch={{ optionFilterProp: 'label' }}
              disabled={readOnly}
              value={watch.source || undefined}
              placeholder="Choose a source"
              options={(sources.data?.items ?? []).map((s) => ({ value: s.source, label: s.source }))}
              onChange={(source) => set({ source })}
            />
            <Checkbox.Group
              disabled={readOnly}
              options={changes}
              value={watch.on ?? changes.slice(0, 2)}
              onChange={(on) => set({ on: changes.filter((c) => on.includes(c)) })}
            />
            {!watch.when && !readOnly && (
              <Button type="link" size="small" onClick={() => set({ when: { field: first, changed: true } })}>
                + when …
              </Button>
            )}
            <ProblemsAt path="watch.source" />
            <ProblemsAt path="watch.on" />
          </div>
        }
        proof={
          proof && (
            <span className={proof.starts ? 'good' : 'muted'}>
              {proof.starts ? '✓' : '–'} {proof.kind}
            </span>
          )
        }
      />
      {watch.when && (
        <Condition
          cond={watch.when}
          path="watch.when"
          line={proof?.when ?? undefined}
          change={(when) => set({ when })}
          lead="when"
        />
      )}
    </Band>
  );
}
