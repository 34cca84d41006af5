import { Button, Checkbox } from 'antd';
import { BandLine } from '../../../parts/Band';
import { ProblemsAt } from '../ProblemsAt';
import { Condition } from '../Condition';
import { useSurroundings } from '../surroundings';
import { SourceSelect } from './SourceSelect';
import type { FormProps } from './WatchBand';

const changes = ['created', 'updated', 'removed'] as const;

/** A record that is new, changed or gone. */
export function ChangeForm({ watch, set, proof }: FormProps) {
  const { fields, readOnly } = useSurroundings();
  const first = fields.find((f) => f.name === 'status')?.name ?? fields[0]?.name ?? 'id';
  return (
    <>
      <BandLine
        ask={
          <div className="inline">
            <SourceSelect value={watch.source} change={(source) => set({ ...watch, source: source ?? '' })} />
            <Checkbox.Group
              disabled={readOnly}
              options={[...changes]}
              value={[...(watch.on ?? changes.slice(0, 2))]}
              onChange={(on) => set({ ...watch, on: changes.filter((c) => on.includes(c)) })}
            />
            {!watch.when && !readOnly && (
              <Button
                type="link"
                size="small"
                onClick={() => set({ ...watch, when: { field: first, changed: true } })}
              >
                + when …
              </Button>
            )}
            <ProblemsAt path="watch.source" />
            <ProblemsAt path="watch.on" />
          </div>
        }
      />
      {watch.when && (
        <Condition
          cond={watch.when}
          path="watch.when"
          line={proof?.when ?? undefined}
          change={(when) => set({ ...watch, when })}
          lead="when"
        />
      )}
    </>
  );
}
