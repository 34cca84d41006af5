import { Input, InputNumber, Select } from 'antd';
import type { ReactNode } from 'react';
import { BandLine } from '../../parts/Band';
import { ProblemsAt } from './ProblemsAt';
import { BodyEditor } from './BodyEditor';
import { Fails } from './Fails';
import { FormulaInput } from './FormulaInput';
import type { Gathered } from './model';
import { useSurroundings } from './surroundings';
import { ChipLine, Values } from './Values';
import { Several } from '../../parts/Several';

interface Props {
  g: Gathered;
  path: string;
  change: (next: Gathered) => void;
  name: ReactNode;
  away: ReactNode;
  shown: ReactNode;
}

/** A calculation. */
export function ValueEntry({ g, path, change, name, away, shown }: Props) {
  return (
    <BandLine
      ask={
        <div className="inline">
          {name}
          <span>is</span>
          <FormulaInput
            label={`Formula of ${g.name}`}
            path={path}
            value={String(g.value ?? '')}
            change={(value) => change({ ...g, value })}
          />
          {away}
          <ProblemsAt path={path} />
        </div>
      }
      proof={shown}
    />
  );
}

/** A short summary of long texts. */
export function SummaryEntry({ g, path, change, name, away, shown }: Props) {
  const { fields, readOnly } = useSurroundings();
  const summary = g.summary!;
  const of = [summary.of].flat();
  return (
    <BandLine
      ask={
        <div className="inline">
          {name}
          <span>sums up</span>
          <Several
            typed
            className="list-select"
            aria-label={`Texts that ${g.name} sums up`}
            disabled={readOnly}
            value={of}
            options={fields.map((f) => ({ value: f.name, label: f.label }))}
            onChange={(next: string[]) =>
              change({ ...g, summary: { ...summary, of: next.length === 1 ? next[0]! : next } })
            }
          />
          <span>in</span>
          <InputNumber
            className="every-value"
            aria-label={`Words of ${g.name}`}
            min={1}
            max={1000}
            disabled={readOnly}
            value={summary.words ?? 40}
            onChange={(words) => change({ ...g, summary: { ...summary, words: words ?? 40 } })}
          />
          <span>words</span>
          {away}
          <ProblemsAt path={path} />
        </div>
      }
      proof={shown}
    />
  );
}

/** A few lines of script. */
export function ScriptEntry({ g, path, change, name, away, shown }: Props) {
  const { readOnly } = useSurroundings();
  return (
    <BandLine
      ask={
        <>
          <div className="inline">
            {name}
            <span>is what the script sets as</span>
            <code>result</code>
            {away}
          </div>
          <Input.TextArea
            className="script"
            aria-label={`Script of ${g.name}`}
            autoSize={{ minRows: 2, maxRows: 12 }}
            value={g.script}
            readOnly={readOnly}
            spellCheck={false}
            onChange={(e) => change({ ...g, script: e.target.value })}
          />
          <ProblemsAt path={`${path}.script`} />
          <GatherFails g={g} path={path} change={change} />
        </>
      }
      proof={shown}
    />
  );
}

/** What a service answers. */
export function HttpEntry({ g, path, change, name, away, shown }: Props) {
  const { readOnly } = useSurroundings();
  const http = g.http!;
  const put = (next: Partial<typeof http>) => {
    const filled = Object.entries({ ...http, ...next }).filter(([, v]) => v !== undefined && v !== '');
    change({ ...g, http: Object.fromEntries(filled) as typeof http });
  };
  return (
    <BandLine
      ask={
        <>
          <div className="inline">
            {name}
            <span>is what</span>
            <ChipLine
              id={`${path}-url`}
              label={`Address that ${g.name} asks`}
              value={http.url}
              change={(url) => put({ url: url || ' ' })}
            />
            <span>answers</span>
            {away}
          </div>
          <div className="inline">
            <Select
              aria-label={`Method of ${g.name}`}
              disabled={readOnly}
              value={http.method ?? 'GET'}
              options={[
                { value: 'GET', label: 'asked by GET' },
                { value: 'POST', label: 'asked by POST' },
              ]}
              onChange={(method: 'GET' | 'POST') =>
                put(method === 'GET' ? { method: undefined, body: undefined } : { method })
              }
              popupMatchSelectWidth={false}
            />
            <span>taking</span>
            <Input
              className="repeat-key"
              aria-label={`Part of the answer for ${g.name}`}
              placeholder="all of it, or $.a.path"
              value={http.pick ?? ''}
              readOnly={readOnly}
              spellCheck={false}
              onChange={(e) => put({ pick: e.target.value })}
            />
          </div>
          <div className="inline httppart">
            <span>with the headers</span>
            <Values
              values={http.headers ?? {}}
              of={`the headers of ${g.name}`}
              names={[]}
              change={(headers) =>
                put({
                  headers: Object.keys(headers).length ? (headers as Record<string, string>) : undefined,
                })
              }
            />
          </div>
          {http.method === 'POST' && (
            <div className="inline httppart">
              <span>and the body</span>
              <BodyEditor of={g.name} body={http.body} change={(body) => put({ body })} />
            </div>
          )}
          <ProblemsAt path={`${path}.http`} />
          <GatherFails g={g} path={path} change={change} />
        </>
      }
      proof={shown}
    />
  );
}

/** What becomes of the arrival where something cannot be gathered. */
const gatherFails = { stop: 'the arrival fails', empty: 'go on without it' };

function GatherFails({ g, path, change }: Pick<Props, 'g' | 'path' | 'change'>) {
  return (
    <div className="inline muted">
      <Fails
        value={g.if_fails}
        path={path}
        ways={gatherFails}
        change={(if_fails) => change({ ...g, if_fails })}
      />
    </div>
  );
}
