import { Input, Select, Switch } from 'antd';
import { useEffect, useRef, useState } from 'react';
import type { Setting } from '../../api/client';
import { MarksInput } from './MarksInput';
import { ShapeInput } from './ShapeInput';

type Values = Record<string, string>;

/** Whether a setting is asked for, given what the others say. The same rule stands in api.applies. */
export const applies = (f: Setting, values: Values, all: Setting[]) => !f.when || holds(f.when, values, all);

/** Whether a setting has one of some values, written as name=a,b. */
function holds(when: string, values: Values, all: Setting[]): boolean {
  const [name = '', wanted = ''] = when.split('=');
  const other = all.find((o) => o.name === name);
  return wanted.split(',').includes(values[name] || other?.default || '');
}

const needed = (f: Setting, values: Values, all: Setting[]) =>
  f.required || (f.needed !== undefined && holds(f.needed, values, all));

/** The settings that are needed and not given. */
export const missing = (fields: Setting[], values: Values, ofConnection: Values = {}) =>
  fields.filter(
    (f) =>
      needed(f, { ...ofConnection, ...values }, fields) &&
      !f.default &&
      !values[f.name] &&
      applies(f, { ...ofConnection, ...values }, fields),
  );

interface Props {
  fields: Setting[];
  values: Values;
  change: (next: Values) => void;
  /** Names of secrets that are set already and need not be given again. */
  secrets?: string[];
  prefix?: string;
  /** The settings of the connection, on which those of a source may depend. */
  ofConnection?: Values;
}

/** Asks for settings: only those that are needed, the rest behind a fold. */
export function SettingsForm({ fields, values, change, secrets = [], prefix = 'set', ofConnection }: Props) {
  const [more, setMore] = useState(false);
  // A body that is made of an example changes several settings, one right after the other.
  const latest = useRef(values);
  useEffect(() => {
    latest.current = values;
  });
  const also = (given: Values) => {
    const known = Object.entries(given).filter(([name]) => fields.some((f) => f.name === name));
    latest.current = { ...latest.current, ...Object.fromEntries(known) };
    change(latest.current);
  };
  const asked = fields.filter((f) => applies(f, { ...ofConnection, ...values }, fields));
  const folded = asked.filter((f) => f.more && !values[f.name]);
  const shown = asked.filter((f) => more || !f.more || values[f.name]);
  return (
    <div className="settings">
      {shown.map((f) => (
        <div key={f.name} className={f.type === 'shape' || f.type === 'marks' ? 'setting wide' : 'setting'}>
          <label htmlFor={`${prefix}-${f.name}`}>
            {f.label}
            {!needed(f, { ...ofConnection, ...values }, fields) &&
              f.type !== 'choice' &&
              f.type !== 'yes/no' && <span className="muted"> (if wanted)</span>}
          </label>
          <Entry
            id={`${prefix}-${f.name}`}
            field={f}
            value={values[f.name] ?? ''}
            set={secrets.includes(f.name)}
            change={(v) => change({ ...values, [f.name]: v })}
            also={also}
          />
          {f.help && <p className="muted small">{f.help}</p>}
        </div>
      ))}
      {folded.length > 0 && !more && (
        <button type="button" className="plainbutton more" onClick={() => setMore(true)}>
          More settings ({folded.length}) ›
        </button>
      )}
    </div>
  );
}

interface EntryProps {
  id: string;
  field: Setting;
  value: string;
  set: boolean;
  change: (v: string) => void;
  also: (more: Values) => void;
}

function Entry({ id, field, value, set, change, also }: EntryProps) {
  switch (field.type) {
    case 'choice':
      return (
        <Select
          id={id}
          value={value || field.default}
          options={(field.options ?? []).map((o) => ({ value: o, label: o }))}
          onChange={change}
        />
      );
    case 'yes/no':
      return (
        <Switch id={id} size="small" checked={value === 'yes'} onChange={(on) => change(on ? 'yes' : '')} />
      );
    case 'secret':
      return (
        <Input.Password
          id={id}
          value={value}
          autoComplete="new-password"
          placeholder={set ? 'set; leave empty to keep it' : ''}
          onChange={(e) => change(e.target.value)}
        />
      );
    case 'shape':
      return <ShapeInput id={id} value={value} change={(body) => also({ [field.name]: body })} also={also} />;
    case 'marks':
      return <MarksInput id={id} value={value} change={change} />;
    case 'addresses':
      return (
        <Input.TextArea
          id={id}
          className="mono"
          rows={3}
          value={value}
          autoComplete="off"
          spellCheck={false}
          placeholder={set ? 'set; leave empty to keep them' : 'a name, then its address'}
          onChange={(e) => change(e.target.value)}
        />
      );
    case 'long':
      return <Input.TextArea id={id} rows={3} value={value} onChange={(e) => change(e.target.value)} />;
  }
  return (
    <Input
      id={id}
      value={value}
      placeholder={field.default}
      inputMode={field.type === 'number' ? 'numeric' : undefined}
      onChange={(e) => change(e.target.value)}
    />
  );
}
