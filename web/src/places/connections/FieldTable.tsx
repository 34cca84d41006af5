import { Button, Input, Select, Switch } from 'antd';
import { useState } from 'react';
import type { FieldItem } from '../../api/client';

const types = [
  'text',
  'number',
  'money',
  'yes/no',
  'date',
  'moment',
  'span',
  'choice',
  'choices',
  'person',
  'link',
  'list',
  'object',
];

interface Correction {
  label?: string;
  type?: string;
  hidden?: boolean;
}

interface Props {
  fields: FieldItem[];
  editor: boolean;
  change: (corrections: Record<string, Correction>) => void;
}

/** Every field with its label, type and real values; what was learnt wrongly is corrected here. */
export function FieldTable({ fields, editor, change }: Props) {
  const [q, setQ] = useState('');
  const want = q.toLowerCase();
  const shown = fields.filter((f) =>
    `${f.label} ${f.name} ${(f.examples ?? []).join(' ')}`.toLowerCase().includes(want),
  );
  return (
    <>
      {fields.length > 8 && (
        <Input
          className="practice-search"
          aria-label="Find a field by its name or a value"
          placeholder="Find by name or value"
          allowClear
          value={q}
          onChange={(e) => setQ(e.target.value)}
        />
      )}
      <table className="ledger fieldtable">
        <thead>
          <tr>
            <th>Label</th>
            <th>Name</th>
            <th>Type</th>
            <th>Commonest values</th>
            <th className="num">Empty</th>
            <th>Offered</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((f) => (
            <Row key={f.name} f={f} editor={editor} change={(c) => change({ [f.name]: c })} />
          ))}
        </tbody>
      </table>
    </>
  );
}

function Row({ f, editor, change }: { f: FieldItem; editor: boolean; change: (c: Correction) => void }) {
  const [label, setLabel] = useState(f.label);
  const has: Correction = { label: f.label, type: f.type, hidden: f.hidden };
  return (
    <tr className={f.hidden ? 'is-off' : ''}>
      <td>
        <Input
          size="small"
          variant="borderless"
          aria-label={`Label of ${f.name}`}
          readOnly={!editor}
          value={label}
          onChange={(e) => setLabel(e.target.value)}
          onBlur={() => label !== f.label && change({ ...has, label })}
          onPressEnter={(e) => e.currentTarget.blur()}
        />
      </td>
      <td className="mono small">{f.name}</td>
      <td>
        <Select
          size="small"
          variant="borderless"
          className="type-select"
          aria-label={`Type of ${f.name}`}
          popupMatchSelectWidth={false}
          disabled={!editor}
          value={f.type || undefined}
          placeholder="several"
          options={types.map((t) => ({ value: t, label: t }))}
          onChange={(type: string) => change({ ...has, type })}
        />
        {f.corrected && (
          <Button type="link" size="small" onClick={() => change({})}>
            corrected; take back
          </Button>
        )}
      </td>
      <td className="examples">
        {(f.examples ?? []).slice(0, 5).map((v, i) => (
          <span key={v}>
            {v} <span className="muted small">{f.counts?.[i]}</span>
          </span>
        ))}
      </td>
      <td className="num">{f.empty > 0 ? `${f.empty} %` : ''}</td>
      <td>
        <Switch
          size="small"
          checked={!f.hidden}
          disabled={!editor}
          aria-label={`${f.name} is ${f.hidden ? 'hidden' : 'offered'}`}
          onChange={(on) => change({ ...has, hidden: !on || undefined })}
        />{' '}
        <span className="small muted">{f.hidden ? 'hidden' : 'offered'}</span>
      </td>
    </tr>
  );
}
