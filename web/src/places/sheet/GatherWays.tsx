import { Button, Dropdown, Input, InputNumber, Select } from 'antd';
import type { ReactNode } from 'react';
import { BandLine, ProblemsAt } from './Band';
import { FormulaInput } from './FormulaInput';
import type { Gathered } from './model';
import { useAround } from './surroundings';

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
  const { fields, readOnly } = useAround();
  const summary = g.summary!;
  const of = [summary.of].flat();
  return (
    <BandLine
      ask={
        <div className="inline">
          {name}
          <span>sums up</span>
          <Select
            mode="tags"
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
  const { readOnly } = useAround();
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
          <Fails g={g} path={path} change={change} />
        </>
      }
      proof={shown}
    />
  );
}

/** What a service answers. */
export function HttpEntry({ g, path, change, name, away, shown }: Props) {
  const { readOnly } = useAround();
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
            <Input
              className="formula"
              aria-label={`Address that ${g.name} asks`}
              value={http.url}
              readOnly={readOnly}
              spellCheck={false}
              onChange={(e) => put({ url: e.target.value || ' ' })}
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
          <ProblemsAt path={`${path}.http`} />
          <Fails g={g} path={path} change={change} />
        </>
      }
      proof={shown}
    />
  );
}

/** What a failure leads to. */
export function Fails({ g, path, change }: Pick<Props, 'g' | 'path' | 'change'>) {
  const { readOnly } = useAround();
  const tells = typeof g.if_fails === 'object';
  const how = tells ? 'tell' : (g.if_fails ?? 'stop');
  const words: Record<string, string> = {
    stop: 'the arrival fails',
    empty: 'go on without it',
    tell: 'tell somebody (see the text)',
  };
  return (
    <div className="inline muted">
      <span>If that fails,</span>
      <Dropdown
        disabled={readOnly}
        trigger={['click']}
        menu={{
          items: ['stop', 'empty', ...(tells ? ['tell'] : [])].map((k) => ({
            key: k,
            label: words[k],
            onClick: () => k !== 'tell' && change({ ...g, if_fails: k === 'stop' ? undefined : k }),
          })),
        }}
      >
        <Button size="small" aria-label={`${words[how as string]} ▾, if ${g.name} fails`}>
          {words[how as string]} ▾
        </Button>
      </Dropdown>
      <ProblemsAt path={`${path}.if_fails`} />
    </div>
  );
}
