import { Button, Checkbox, Input, Segmented, Typography } from 'antd';
import { useState } from 'react';
import type { RecordItem } from '../api/client';
import { useFound, useRecords } from '../api/queries';
import { More } from './More';
import { Trouble } from './Trouble';
import { agoOf, fullOf } from './times';
import { counted } from './counted';

interface Props {
  source: string;
  /** Takes a record; without, they are only looked at. */
  pick?: (r: RecordItem) => void;
  pickLabel?: string;
  /** Records can be ticked; these are, by their keys. */
  ticked?: string[];
  tick?: (keys: string[]) => void;
}

/** The records of a source, newest first: search, see in which field a text stands, look inside. Nothing is sent. */
export function RecordSearch({ source, pick, pickLabel = 'Prove on it', ticked = [], tick }: Props) {
  const [q, setQ] = useState('');
  const [open, setOpen] = useState('');
  const records = useRecords(source, q);
  const found = useFound(source, q);
  const list = records.data?.pages.flatMap((p) => p.items ?? []) ?? [];
  return (
    <div className="recordsearch">
      <Input
        aria-label="Search the records"
        placeholder="Search, such as a name or a number"
        allowClear
        value={q}
        onChange={(e) => setQ(e.target.value)}
      />
      {q.length > 1 && (found.data?.items ?? []).length > 0 && (
        <p className="small">
          <span className="muted">It stands in </span>
          {(found.data?.items ?? []).slice(0, 4).map((f) => (
            <span key={f.field} className="foundfield">
              <b>{f.label}</b> <span className="mono">{f.field}</span>{' '}
              <span className="muted">
                ({counted(f.matches, 'record')}, such as {f.value})
              </span>
            </span>
          ))}
        </p>
      )}
      {records.error && <Trouble error={records.error} again={() => void records.refetch()} />}
      <ul className="recordlist">
        {list.map((r) => (
          <li key={r.key}>
            <div className="recordhead">
              {tick && (
                <Checkbox
                  aria-label={`Choose ${r.key}`}
                  checked={ticked.includes(r.key)}
                  onChange={(e) =>
                    tick(e.target.checked ? [...ticked, r.key] : ticked.filter((k) => k !== r.key))
                  }
                />
              )}
              <button
                type="button"
                className="plainbutton"
                aria-expanded={open === r.key}
                onClick={() => setOpen(open === r.key ? '' : r.key)}
              >
                {open === r.key ? '▾' : '▸'} <strong>{r.key}</strong> {r.title}
              </button>
              <span className="muted small" title={fullOf(r.at)}>
                {agoOf(r.at)}
              </span>
              {pick && (
                <Button size="small" onClick={() => pick(r)}>
                  {pickLabel}
                </Button>
              )}
            </div>
            {open === r.key && <RecordView r={r} />}
          </li>
        ))}
      </ul>
      {records.data && list.length === 0 && (
        <p className="muted">{q ? 'No record has this in it.' : 'No record has come yet.'}</p>
      )}
      <More of={records} />
    </div>
  );
}

/** One record: its fields with values and types, or the raw JSON. */
export function RecordView({ r }: { r: RecordItem }) {
  const [how, setHow] = useState('Fields');
  return (
    <div className="recordview">
      <Segmented size="small" options={['Fields', 'JSON']} value={how} onChange={setHow} />
      {how === 'JSON' ? (
        <pre className="mono">{JSON.stringify(r.record, null, 2)}</pre>
      ) : (
        <table className="ledger">
          <thead>
            <tr>
              <th>Field</th>
              <th>Value</th>
              <th>Type</th>
              <th>Path</th>
            </tr>
          </thead>
          <tbody>
            {(r.fields ?? []).map((f) => (
              <tr key={f.field}>
                <td>{f.label}</td>
                <td>{f.value}</td>
                <td className="muted">{f.type || 'several'}</td>
                <td>
                  <Typography.Text className="mono small" copyable={{ text: f.field }}>
                    {f.field}
                  </Typography.Text>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
