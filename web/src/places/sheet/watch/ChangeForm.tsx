import { Button, Checkbox, Input } from 'antd';
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
  const talks = ['text', 'author', 'room'].every((name) => fields.some((f) => f.name === name));
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
            {watch.command === undefined && !readOnly && talks && (
              <Button type="link" size="small" onClick={() => set({ ...watch, command: 'done' })}>
                + command
              </Button>
            )}
            <ProblemsAt path="watch.source" />
            <ProblemsAt path="watch.on" />
          </div>
        }
      />
      {watch.command !== undefined && (
        <BandLine
          ask={
            <div className="inline">
              <span className="lead-word">whose first word is</span>
              <Input
                className="side-select"
                aria-label="The command"
                disabled={readOnly}
                value={watch.command}
                maxLength={60}
                onChange={(e) => set({ ...watch, command: e.target.value })}
              />
              <span className="muted small">the rest of its words are ${'{record.words}'}</span>
              {!readOnly && (
                <Button
                  type="text"
                  size="small"
                  aria-label="Take the command away"
                  onClick={() => set({ ...watch, command: undefined })}
                >
                  ×
                </Button>
              )}
              <ProblemsAt path="watch.command" />
            </div>
          }
        />
      )}
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
