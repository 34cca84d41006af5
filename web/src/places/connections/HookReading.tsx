import { useAct } from '../../api/act';
import { useQuery } from '@tanstack/react-query';
import { App, Button, Input } from 'antd';
import { useState } from 'react';
import { api, answerOf, type RequestReading } from '../../api/client';
import { sourcePath, useSources } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { clockOf, dayOf } from '../../parts/times';

interface Props {
  /** The source, whether or not anything has come for it yet. */
  source: string;
  /** Where its records lie now, and what names them. */
  record: string;
  keyField: string;
  editor: boolean;
  /** What was sent last was refused. */
  refused?: boolean;
}

/** Where the record lies in what an app sends, with the last requests as they would be read. */
export function HookReading({ source, record: was, keyField: wasKey, editor, refused }: Props) {
  const { connection, kind } = sourcePath(source);
  const { message } = App.useApp();
  const known = useSources().data?.items?.some((s) => s.source === source) ?? false;
  const [record, setRecord] = useState(was);
  const [key, setKey] = useState(wasKey);
  const reading = useQuery({
    queryKey: ['reading', source, record, key],
    enabled: editor,
    queryFn: () =>
      answerOf(
        api.POST('/api/connections/{id}/reading', {
          params: { path: { id: connection } },
          body: { kind, record, key_field: key },
        }),
      ),
    placeholderData: (before) => before,
  });
  const save = useAct(
    () => {
      const settings = { record };
      return known
        ? answerOf(
            api.PATCH('/api/sources/{connection}/{kind}', {
              params: { path: { connection, kind } },
              body: { settings, key_field: key },
            }),
          )
        : answerOf(
            api.POST('/api/connections/{id}/sources', {
              params: { path: { id: connection } },
              body: { kind, settings, key_field: key },
            }),
          );
    },
    ['sources', 'connections', 'reading'],
    () => {
      void message.success(
        'From now on it is read so; what was refused is taken in as far as it can be read.',
      );
    },
    'in place',
  );
  // What could not be read is shown as it would be read by the likeliest way.
  const [guessed, setGuessed] = useState(false);
  const likely = reading.data?.offers?.[0];
  if (refused && !guessed && likely) {
    setGuessed(true);
    if (likely.record !== record || likely.key !== key) {
      setRecord(likely.record);
      setKey(likely.key);
    }
  }
  const items = reading.data?.items ?? [];
  const offers = (reading.data?.offers ?? []).filter((o) => o.record !== record || o.key !== key);
  const differs = record !== was || key !== wasKey;
  return (
    <div className="hookreading">
      {refused && reading.data && (
        <p>
          {differs || items.some((it) => it.problem) ? (
            <>
              <strong className="bad">✕ What was sent for {kind} could not be read.</strong> Say where its
              record lies: what was refused is taken in then.
            </>
          ) : (
            <>
              <strong className="good">✓ What is sent for {kind} is read so from now on.</strong>
            </>
          )}
        </p>
      )}
      <div className="inline">
        <label>
          The record lies at{' '}
          <Input
            className="mono reading-path"
            aria-label={`Where the record of ${kind} lies`}
            placeholder="what is sent itself"
            value={record}
            readOnly={!editor}
            onChange={(e) => setRecord(e.target.value.trim())}
          />
        </label>
        <label>
          and is named by its field{' '}
          <Input
            className="mono reading-path"
            aria-label={`The field that names a record of ${kind}`}
            placeholder="id"
            value={key}
            readOnly={!editor}
            onChange={(e) => setKey(e.target.value.trim())}
          />
        </label>
        {editor && differs && (
          <Button type="primary" loading={save.isPending} onClick={() => save.mutate()}>
            Read it so
          </Button>
        )}
      </div>
      {editor && offers.length > 0 && (
        <p className="offers">
          <span className="muted">What was sent also has</span>{' '}
          {offers.slice(0, 6).map((o) => (
            <Button
              key={`${o.record} ${o.key}`}
              size="small"
              onClick={() => {
                setRecord(o.record);
                setKey(o.key);
              }}
            >
              <span className="mono">{o.record || 'itself'}</span>, named by{' '}
              <span className="mono">{o.key}</span>
            </Button>
          ))}
        </p>
      )}
      {save.error && <Trouble error={save.error} />}
      {reading.error && <Trouble error={reading.error} again={() => void reading.refetch()} />}
      {items.length > 0 && <Readings items={items} source={source} />}
      {reading.data && items.length === 0 && (
        <p className="muted">Nothing has been sent for it yet that could be shown as it would be read.</p>
      )}
    </div>
  );
}

function Readings({ items, source }: { items: RequestReading[]; source: string }) {
  return (
    <table className="ledger requests" aria-label={`The last requests for ${source}, as they would be read`}>
      <thead>
        <tr>
          <th>Sent</th>
          <th>Key</th>
          <th>The record, as it would be read</th>
        </tr>
      </thead>
      <tbody>
        {items.slice(0, 5).map((it) => {
          const records = it.records ?? [];
          return (
            <tr key={it.request}>
              <td className="when">
                {dayOf(it.at)} {clockOf(it.at)}
              </td>
              {it.problem ? (
                <td colSpan={2} className="bad">
                  ✕ {it.problem}
                </td>
              ) : (
                <>
                  <td className="mono small">{records.map((r) => r.key).join(', ')}</td>
                  <td className="mono small bodyhead">
                    {records.length === 0 ? 'no record' : JSON.stringify(records[0]?.record)}
                    {records.length > 1 && <span className="muted"> and {records.length - 1} more</span>}
                  </td>
                </>
              )}
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
