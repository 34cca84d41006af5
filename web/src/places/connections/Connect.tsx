import './connections.css';
import { useAct } from '../../api/act';
import { useMutation } from '@tanstack/react-query';
import { Button, Input } from 'antd';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, answerOf, type ConnectionKind } from '../../api/client';
import { useConnections, useKinds } from '../../api/queries';
import { Trouble } from '../../parts/Trouble';
import { SettingsForm, missing } from './SettingsForm';
import { Steps } from './Steps';

/** Connects something: what it is, where it is, and the proof that it can be read. */
export function Connect() {
  const kinds = useKinds();
  const [kind, setKind] = useState<ConnectionKind>();
  return (
    <main className="place" id="place">
      <div className="place-head">
        <Link to="/connections" className="back" aria-label="Back to all connections">
          ‹
        </Link>
        <h1>Connect something</h1>
        {kind && (
          <p className="lead">
            {kind.title}: {kind.does.charAt(0).toLowerCase() + kind.does.slice(1)}
          </p>
        )}
      </div>
      {kinds.error && <Trouble error={kinds.error} again={() => void kinds.refetch()} />}
      {!kind ? (
        <table className="ledger kinds">
          <thead>
            <tr>
              <th>What it is</th>
              <th>What Dorfbote does with it</th>
            </tr>
          </thead>
          <tbody>
            {(kinds.data?.items ?? []).map((k) => (
              <tr key={k.name}>
                <td>
                  <Button type="link" onClick={() => setKind(k)}>
                    {k.title}
                  </Button>
                </td>
                <td>{k.does}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : (
        <ConnectForm kind={kind} back={() => setKind(undefined)} />
      )}
    </main>
  );
}

/** A short name for sources, made of a title: the workspace's own words, fit for a source's name. */
export const shortName = (title: string) =>
  title
    .toLowerCase()
    .normalize('NFD')
    .replace(/\p{M}/gu, '')
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-+|-+$/g, '')
    .slice(0, 40);

/** A name that is not taken yet: the one that is wanted, or that with a number. */
export function freeName(wanted: string, taken: Set<string>): string {
  let name = wanted;
  for (let n = 2; name && taken.has(name); n++) name = `${wanted}-${n}`;
  return name;
}

function ConnectForm({ kind, back }: { kind: ConnectionKind; back: () => void }) {
  const go = useNavigate();
  const taken = new Set((useConnections().data?.items ?? []).map((c) => c.id));
  const [title, setTitle] = useState('');
  const [id, setId] = useState('');
  const [settings, setSettings] = useState<Record<string, string>>({});
  const name = id || freeName(shortName(title), taken);
  const fields = kind.settings ?? [];
  const lacks = missing(fields, settings);
  const prove = useMutation({
    mutationFn: () => answerOf(api.POST('/api/connections/prove', { body: { kind: kind.name, settings } })),
  });
  const make = useAct(
    () =>
      answerOf(
        api.POST('/api/connections', {
          body: {
            id: name,
            kind: kind.name,
            title: title.trim(),
            settings,
            signed: settings.signed === 'yes',
            key_field: settings.key_field,
          },
        }),
      ),
    ['connections', 'destinations'],
    (made) => {
      void go(`/connections/${made.id}`, { state: { secret: made.secret, fresh: true } });
    },
    'in place',
  );
  const ready =
    title.trim() !== '' && lacks.length === 0 && /^[a-z0-9][a-z0-9-]*$/.test(name) && !taken.has(name);
  return (
    <form
      className="connectform"
      onSubmit={(e) => {
        e.preventDefault();
        if (ready) make.mutate();
      }}
    >
      <div className="settings">
        <div className="setting">
          <label htmlFor="connect-title">What people call it</label>
          <Input id="connect-title" autoFocus value={title} onChange={(e) => setTitle(e.target.value)} />
        </div>
        <div className="setting">
          <label htmlFor="connect-id">Short name</label>
          <Input
            id="connect-id"
            value={id}
            placeholder={name}
            status={name && taken.has(name) ? 'error' : undefined}
            onChange={(e) => setId(e.target.value)}
          />
          <p className="muted small">
            {taken.has(name) ? (
              <span className="bad">✕ this name is taken</span>
            ) : (
              <>
                the first part of what it is called in sheets, such as {name || 'tours'}/
                {kind.sends && !kind.reads ? 'team' : 'orders'}
              </>
            )}
          </p>
        </div>
      </div>
      <SettingsForm fields={fields} values={settings} change={setSettings} />
      {prove.data && <Steps steps={prove.data.steps ?? []} />}
      {prove.error && <Trouble error={prove.error} />}
      {make.error && <Trouble error={make.error} />}
      <div className="formfoot">
        {kind.proves && (
          <Button disabled={lacks.length > 0} loading={prove.isPending} onClick={() => prove.mutate()}>
            Prove it
          </Button>
        )}
        <Button type="primary" htmlType="submit" disabled={!ready} loading={make.isPending}>
          Connect
        </Button>
        <Button type="text" onClick={back}>
          Something else
        </Button>
        {lacks.length > 0 && title && (
          <span className="muted">Still missing: {lacks.map((f) => f.label.toLowerCase()).join(', ')}</span>
        )}
      </div>
    </form>
  );
}
