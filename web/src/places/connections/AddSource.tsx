import { useAct } from '../../api/act';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Button, Input, Select } from 'antd';
import { useEffect, useRef, useState } from 'react';
import { useNavigate } from 'react-router';
import {
  api,
  answerOf,
  type Begin,
  type Choice,
  type ConnectionDetail,
  type ConnectionKind,
  type Preview,
} from '../../api/client';
import { useLatest } from '../../parts/useLatest';
import { Trouble } from '../../parts/Trouble';
import { BeginWith } from './BeginWith';
import { FormDesigner } from './FormDesigner';
import { SettingsForm, missing } from './SettingsForm';
import { counted } from '../../parts/counted';

interface Props {
  c: ConnectionDetail;
  kind: ConnectionKind;
  done: () => void;
}

/** How records were looked at: by which key, begun where, and whether somebody picked that. */
interface Looked {
  key: string;
  begin: Begin;
  picked: boolean;
}

/** Adds something that is read: picked from what there is, looked at, and begun where one chooses. */
export function AddSource({ c, kind, done }: Props) {
  const go = useNavigate();
  const form = (kind.source ?? []).some((f) => f.type === 'questions');
  const browse = useQuery({
    queryKey: ['browse', c.id],
    enabled: !form,
    queryFn: () => answerOf(api.POST('/api/connections/{id}/browse', { params: { path: { id: c.id } } })),
    retry: false,
    staleTime: 60_000,
  });
  const [name, setName] = useState(kind.single ?? '');
  const [title, setTitle] = useState('');
  const [key, setKey] = useState(kind.key === 'id' ? '' : (kind.key ?? ''));
  const [settings, setSettings] = useState<Record<string, string>>({});
  const [begin, setBegin] = useState<Begin>({ how: 'now' });
  const fields = (kind.source ?? []).filter((f) => f.type !== 'questions');
  const body = {
    kind: name,
    title: title || settings.title || undefined,
    settings,
    key_field: key || undefined,
    begin,
  };
  const look = useMutation({
    mutationFn: (as: Looked) =>
      answerOf(
        api.POST('/api/connections/{id}/sources/preview', {
          params: { path: { id: c.id } },
          body: { ...body, key_field: as.key || undefined, begin: as.begin },
        }),
      ),
    onSuccess: (seen, as) => {
      const likely = seen.keys?.[0];
      if (as.picked || as.key || !likely || seen.keyless < seen.rows || seen.rows === 0) return;
      setKey(likely);
      look.mutate({ ...as, key: likely, picked: true });
    },
  });
  const lookAt = (as?: Partial<Looked>) => look.mutate({ key, begin, picked: false, ...as });
  // What was seen counts while it was looked at as it would be read: the answer can be here before the key is.
  const seen =
    look.data && look.variables.key === key && look.variables.begin === begin ? look.data : undefined;
  const make = useAct(
    () => answerOf(api.POST('/api/connections/{id}/sources', { params: { path: { id: c.id } }, body })),
    ['connections', 'sources'],
    (made) => {
      done();
      if (!form) void go(`/sources/${made.source}`);
    },
    'in place',
  );
  const pick = (choice: Choice) => {
    setName(kind.single || choice.kind);
    setTitle(choice.title);
    if (choice.key) setKey(choice.key);
    setSettings({ ...settings, ...choice.settings });
    look.reset();
  };
  const choices = browse.data?.items ?? [];
  // Where there is but one thing to read, it is the one.
  const only = !kind.single && choices.length === 1 ? choices[0] : undefined;
  const begun = useRef('');
  const takeOnly = useLatest(() => only && pick(only));
  const lookFirst = useLatest(() => lookAt());
  // What is to be read is looked at once it is chosen.
  useEffect(() => {
    if (kind.single && !form && begun.current === '' && browse.isSuccess) {
      begun.current = 'looked';
      lookFirst();
    } else if (only && begun.current === '') {
      begun.current = 'taken';
      takeOnly();
    } else if (only && begun.current === 'taken' && name === only.kind) {
      begun.current = 'looked';
      lookFirst();
    }
  }, [only, name, kind.single, form, browse.isSuccess, takeOnly, lookFirst]);
  const taken = choices.findIndex((ch) => ch.kind === name);
  const lacks = missing(fields, settings, c.settings);
  const named = Boolean(name || kind.single);
  return (
    <div className="addsource">
      {browse.error && <Trouble error={browse.error} again={() => void browse.refetch()} />}
      {browse.isFetching && <p className="muted">Looking at what there is…</p>}
      {choices.length > 0 && !kind.single && (
        <div className="setting">
          <label htmlFor="add-choice">What is to be read</label>
          <Select
            id="add-choice"
            showSearch={{ optionFilterProp: 'title' }}
            placeholder={`${choices.length} found`}
            value={taken >= 0 ? taken : undefined}
            options={choices.map((ch, i) => ({
              value: i,
              title: `${ch.title} ${ch.detail ?? ''}`,
              label: (
                <span>
                  {ch.title} <span className="muted small">{ch.detail}</span>
                </span>
              ),
            }))}
            onChange={(i: number) => pick(choices[i]!)}
          />
        </div>
      )}
      {!kind.single && (
        <div className="settings">
          <div className="setting">
            <label htmlFor="add-name">Name of the source</label>
            <Input
              id="add-name"
              prefix={<span className="muted">{c.id}/</span>}
              value={name}
              onChange={(e) => setName(e.target.value)}
            />
          </div>
          <div className="setting">
            <label htmlFor="add-key">Field that names a record</label>
            <Input id="add-key" value={key} placeholder="id" onChange={(e) => setKey(e.target.value)} />
          </div>
        </div>
      )}
      <SettingsForm
        fields={fields}
        values={settings}
        change={(next) => {
          // The source is called after the end of its path until it has a name.
          const end = (path = '') =>
            (/([^/?#]+)\/?(?:[?#].*)?$/.exec(path)?.[1] ?? '').toLowerCase().replace(/[^a-z0-9_-]+/g, '-');
          if (next.path !== settings.path && (!name || name === end(settings.path))) setName(end(next.path));
          setSettings(next);
          look.reset();
        }}
        prefix="source"
        ofConnection={c.settings}
      />
      {form ? (
        <FormDesigner
          value={settings.fields ?? ''}
          change={(text) => setSettings({ ...settings, fields: text })}
        />
      ) : (
        <Button disabled={!named || lacks.length > 0} loading={look.isPending} onClick={() => lookAt()}>
          Look at its records
        </Button>
      )}
      {look.error && <Trouble error={look.error} />}
      {look.data && (
        <Seen
          p={look.data}
          keyField={key || 'id'}
          pick={(name) => {
            setKey(name);
            lookAt({ key: name, picked: true });
          }}
        />
      )}
      {look.data && !look.data.problem && !kind.appends && (
        <BeginWith
          preview={look.data}
          value={begin}
          change={(b) => {
            setBegin(b);
            lookAt({ begin: b });
          }}
        />
      )}
      {make.error && <Trouble error={make.error} />}
      <div className="formfoot">
        <Button
          type="primary"
          disabled={
            !named || lacks.length > 0 || (!form && (!seen || Boolean(seen.problem) || seen.keyless > 0))
          }
          loading={make.isPending}
          onClick={() => make.mutate()}
        >
          {form ? 'Open the form' : 'Begin to read it'}
        </Button>
        <Button type="text" onClick={done}>
          Not now
        </Button>
        {!form && !seen && !look.isPending && named && (
          <span className="muted">Look at its records first.</span>
        )}
      </div>
    </div>
  );
}

/** The fields with real values, so that names need not be guessed. */
function Seen({ p, keyField, pick }: { p: Preview; keyField: string; pick: (name: string) => void }) {
  if (p.problem)
    return (
      <div className="trouble" role="alert">
        <strong>It could not be read.</strong> {p.problem}
      </div>
    );
  return (
    <>
      <p>
        {counted(p.rows, 'record')} looked at{p.more && ', and there are more'}.{' '}
        {p.keyless > 0 && (
          <span className="bad">
            ✕ {p.keyless === p.rows ? 'None has a' : `${p.keyless} have no`} value in {keyField}; choose what
            names them.{' '}
          </span>
        )}
        {p.twice > 0 && (
          <span className="bad">
            ✕ {p.twice} have the same {keyField} as an earlier one; choose another key.
          </span>
        )}
      </p>
      {p.part && (
        <p className="brass" role="status">
          △ Not all of it is read: {p.part}.
        </p>
      )}
      {(p.keys ?? []).length > 0 && (p.keyless > 0 || p.twice > 0) && (
        <p className="inline">
          <span className="muted">Likely to name them:</span>
          {(p.keys ?? []).map((k) => (
            <Button key={k} size="small" className="mono" onClick={() => pick(k)}>
              {k}
            </Button>
          ))}
        </p>
      )}
      <div className="scrolled">
        <table className="ledger" aria-label="Fields found">
          <thead>
            <tr>
              <th>Field</th>
              <th>Type</th>
              <th>Values seen</th>
              <th className="num">Empty</th>
              <th>
                <span className="unseen">Key</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {(p.fields ?? []).map((f) => (
              <tr key={f.name}>
                <td>{f.name}</td>
                <td className="muted">{f.type || 'several'}</td>
                <td className="examples">
                  {f.type === 'object' && f.fields
                    ? f.fields.map((inner) => `${f.name}.${inner.name}`).join(' · ')
                    : (f.examples ?? []).slice(0, 4).join(' · ')}
                </td>
                <td className="num">{f.empty > 0 ? `${f.empty} %` : ''}</td>
                <td>
                  {f.name === keyField ? (
                    <span className="good">✓ key</span>
                  ) : (
                    <Button type="text" size="small" onClick={() => pick(f.name)}>
                      make it the key
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
